import { env } from "node:process";
import type { Request } from "./types";

interface Config { host: string; port: number; debug?: boolean }
type Env = { NOT_A_USE: string };

const read = <T,>(name: string, parse: (text: string) => T, fallback?: T): T | undefined => {
  const text = process.env[name];
  return text === undefined ? fallback : parse(text);
};

export const config: Config = {
  host: env.«API_HOST|localhost» ?? "localhost",
  port: read("«API_PORT|8080»", Number, 8080)!,
  debug: process.env["«DEBUG»"] === "1",
};

export function handler(request: Request): string {
  const env = request.env;
  return env.NOT_OURS + request.env["NOR_THIS"];
}

export class Client {
  private readonly token = process.env.«API_TOKEN» as string;
  constructor(private readonly url: string = process.env.«API_URL|/» || "/") {}
  get verbose(): boolean { return Boolean(process.env.«VERBOSE:presence»); }
}
for (const name of ["«A_KEY:presence»", "«B_KEY:presence»"] as const) {
  if (!(name in process.env)) throw new Error(name);
}
