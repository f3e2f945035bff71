"""Mentions in whole programs, as people write them: written after the readers, and without looking at what these can do."""

from __future__ import annotations

import pytest

from tests.labelled import Snippet, found_in, unmarked

PROGRAMS: dict[str, str] = {
    "server.py": '''
"""The ticket office's web server."""
import logging
import os
from dataclasses import dataclass, field
from pathlib import Path

log = logging.getLogger(__name__)
PREFIX = "OFFICE_"


def _flag(name: str, default: str = "false") -> bool:
    return os.environ.get(name, default).strip().lower() in ("1", "true", "yes")


@dataclass(frozen=True)
class Settings:
    host: str = field(default_factory=lambda: os.environ["«DB_HOST»"])
    port: int = int(os.environ.get("«DB_PORT|5432»", "5432"))
    data: Path = Path(os.getenv("«DATA_DIR|/var/lib/office»", "/var/lib/office"))
    debug: bool = _flag("«DEBUG|false»", "false")
    region: str | None = os.environ.get("«REGION»")

    @classmethod
    def load(cls) -> "Settings":
        missing = [name for name in ("«DB_USER:presence»", "«DB_PASSWORD:presence»") if not os.environ.get(name)]
        if missing:
            raise SystemExit(f"set {', '.join(missing)}")
        return cls()


def main() -> None:
    if os.environ.get("«ERRORS_ADDRESS:presence»"):
        log.info("telling of errors")
    extra = {key[len(PREFIX):]: value for key, value in os.environ.items() if key.startswith(PREFIX)}
    with open(os.environ.get("«PID_FILE|office.pid»") or "office.pid", "w") as file:
        file.write(str(os.getpid()))
    os.environ["«TZ:set»"] = "UTC"
    log.info("settings %s, not DB_HOST", extra)
''',
    "config.js": '''
"use strict";
// process.env.NOT_HERE is what this used to be
const path = require("path");
const { «NODE_ENV|development» = "development", «PORT» } = process.env;

const required = (name) => {
  const value = process.env[name];
  if (value === undefined) {
    throw new Error(`${name} is missing`);
  }
  return value;
};

module.exports = {
  env: NODE_ENV,
  port: Number(PORT),
  database: {
    url: required("«DATABASE_URL»"),
    pool: parseInt(process.env.«POOL_SIZE|10» || "10", 10),
    ssl: process.env.«DB_SSL» === "true",
  },
  cache: process.env.«CACHE_URL:presence» ? { url: process.env.«CACHE_URL» } : null,
  log: path.join(process.env.«LOG_DIR|/tmp» ?? "/tmp", "app.log"),
  features: (process.env.«FEATURES|» || "").split(","),
};

if (!process.env.«QUIET:presence») {
  console.log("env is", module.exports.env, 'process.env.NOT_THIS');
}
''',
    "main.go": '''
package main

import (
	"fmt"
	"log"
	"net/http"
	"os"
	"strconv"
	"time"
)

const defaultPort = "8080"

// getenv reads NOT_THIS or falls back.
func getenv(key, fallback string) string {
	if value := os.Getenv(key); value != "" {
		return value
	}
	return fallback
}

type config struct {
	addr    string
	timeout time.Duration
}

func load() (config, error) {
	seconds, err := strconv.Atoi(getenv("«TIMEOUT_SECONDS|30»", "30"))
	if err != nil {
		return config{}, fmt.Errorf("TIMEOUT_SECONDS: %w", err)
	}
	token, ok := os.LookupEnv("«API_TOKEN»")
	if !ok {
		return config{}, fmt.Errorf("no API_TOKEN")
	}
	_ = token
	return config{addr: ":" + getenv("«PORT|8080»", defaultPort), timeout: time.Duration(seconds) * time.Second}, nil
}

func main() {
	if os.Getenv("«DEBUG:presence»") != "" {
		log.SetFlags(log.Lshortfile)
	}
	c, err := load()
	if err != nil {
		log.Fatal(err)
	}
	log.Fatal(http.ListenAndServe(c.addr, nil))
}
''',
    "Office.java": '''
package org.example.office;

import java.time.Duration;
import java.util.Map;
import java.util.Optional;

/** Reads NOT_THIS from System.getenv("NOT_THIS"). */
public final class Office {
    private static final String TOKEN = "«OFFICE_TOKEN»";
    private final Map<String, String> env;

    Office(Map<String, String> env) { this.env = env; }

    static String need(String name) {
        String value = System.getenv(name);
        if (value == null || value.isBlank()) {
            throw new IllegalStateException(name + " is missing");
        }
        return value;
    }

    Duration timeout() {
        return Duration.ofSeconds(Long.parseLong(System.getenv().getOrDefault("«TIMEOUT|30»", "30")));
    }

    public static void main(String[] args) throws Exception {
        String host = need("«DB_HOST»");
        String token = need(TOKEN);
        int pool = Optional.ofNullable(System.getenv("«POOL|5»")).map(Integer::parseInt).orElse(5);
        boolean debug = Boolean.parseBoolean(System.getenv("«DEBUG»"));
        ProcessBuilder child = new ProcessBuilder("backup");
        child.environment().put("«BACKUP_TARGET:set»", host);
        child.start();
        System.out.println(pool + token + debug + System.getProperty("user.dir"));
    }
}
''',
    "Office.kt": '''
package org.example.office

import java.time.Duration

object Config {
    private val env: Map<String, String> = System.getenv()

    val host: String = env["«DB_HOST»"] ?: error("no DB_HOST")
    val port: Int = env["«DB_PORT|5432»"]?.toInt() ?: 5432
    val debug: Boolean = System.getenv("«DEBUG|false»")?.toBoolean() ?: false
    val timeout: Duration = Duration.ofSeconds(env.getOrDefault("«TIMEOUT|30»", "30").toLong())
}

fun need(name: String): String = requireNotNull(System.getenv(name)) { "$name is missing" }

fun main() {
    val token = need("«API_TOKEN»")
    if (System.getenv("«VERBOSE:presence»") != null) println("not VERBOSE in a text")
    println("${Config.host} ${System.getenv("«REGION|north»") ?: "north"} $token")
}
''',
    "office.rb": '''
# frozen_string_literal: true
require "logger"

# ENV["NOT_THIS"]
module Office
  DEFAULTS = { port: 3000 }.freeze

  def self.env!(name)
    ENV.fetch(name) { raise KeyError, "#{name} is missing" }
  end

  class Config
    attr_reader :port, :url

    def initialize
      @port = Integer(ENV.fetch("«PORT|3000»", "3000"))
      @url = Office.env!("DATABASE_URL_BY_A_MODULE")
      @log = Logger.new(ENV["«LOG_FILE»"] || $stdout)
      @workers = (ENV["«WORKERS|2»"] || 2).to_i
    end

    def debug?
      ENV["«DEBUG»"] == "true"
    end
  end

  %w[«REDIS_URL:presence» «MAIL_HOST:presence»].each do |name|
    warn "#{name} is not set" unless ENV.key?(name)
  end
end

if ENV["«PROFILE:presence»"]
  require "profile"
end
system({ "«LANG:set»" => "C" }, "backup")
''',
    "office.php": '''
<?php
declare(strict_types=1);

namespace Office;

// getenv('NOT_THIS')
function env(string $name, ?string $default = null): ?string
{
    $value = getenv($name);
    return $value === false ? $default : $value;
}

final class Config
{
    public string $host;
    public int $port;

    public function __construct()
    {
        $this->host = $_ENV['«DB_HOST|localhost»'] ?? 'localhost';
        $this->port = (int) (getenv('«DB_PORT|3306»') ?: '3306');
        if (getenv('«DEBUG:presence»')) {
            error_reporting(E_ALL);
        }
    }
}

$mode = env('«APP_MODE|prod»', 'prod');
$key = $_SERVER['«APP_KEY»'] ?? null;
$method = $_SERVER['REQUEST_METHOD'];
putenv('«TZ:set»=UTC');
''',
    "Office.cs": '''
using System;
using System.Collections.Generic;

namespace Office
{
    // Environment.GetEnvironmentVariable("NOT_THIS")
    public static class Config
    {
        private const string TokenName = "«OFFICE_TOKEN»";

        private static string Need(string name) =>
            Environment.GetEnvironmentVariable(name) ?? throw new InvalidOperationException($"{name} is missing");

        public static string Host => Need("«DB_HOST»");
        public static string Token => Need(TokenName);
        public static int Port => int.Parse(Environment.GetEnvironmentVariable("«PORT|8080»") ?? "8080");

        public static void Main(string[] args)
        {
            var debug = !string.IsNullOrEmpty(Environment.GetEnvironmentVariable("«DEBUG:presence»"));
            if (string.Equals(Environment.GetEnvironmentVariable("«MODE»"), "fast", StringComparison.OrdinalIgnoreCase))
            {
                Console.WriteLine("fast" + debug);
            }
            Environment.SetEnvironmentVariable("«CHILD:set»", "1");
        }
    }
}
''',
    "main.rs": '''
use std::env;
use std::time::Duration;

/// Reads NOT_THIS with env::var("NOT_THIS").
struct Config {
    host: String,
    port: u16,
    timeout: Duration,
}

fn need(name: &str) -> String {
    env::var(name).unwrap_or_else(|_| panic!("{name} is missing"))
}

impl Config {
    fn load() -> Self {
        let port = env::var("«PORT|8080»").ok().and_then(|text| text.parse().ok()).unwrap_or(8080);
        let seconds: u64 = env::var("«TIMEOUT|30»").unwrap_or_else(|_| "30".to_string()).parse().unwrap();
        Config { host: need("«DB_HOST»"), port, timeout: Duration::from_secs(seconds) }
    }
}

fn main() {
    let config = Config::load();
    if env::var_os("«DEBUG:presence»").is_some() {
        eprintln!("debug {}", env!("«CARGO_PKG_VERSION»"));
    }
    match env::var("«LOG_LEVEL»") {
        Ok(level) => println!("{level}"),
        Err(env::VarError::NotPresent) => println!("quiet"),
        Err(other) => panic!("{other}"),
    }
    println!("{} {} {:?}", config.host, config.port, config.timeout);
}
''',
    "release.sh": '''
#!/usr/bin/env bash
set -euo pipefail
# needs $NOT_THIS
here="$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)"
: "${«REGISTRY»:?which registry?}"
«TAG:set»="${«TAG|latest»:-latest}"
image="${«IMAGE_NAME|office»:-office}:${«TAG»}"
log() { printf '%s %s\\n' "$(date)" "$*" >&2; }
retry() {
  local count=0 limit="${«RETRIES|3»:-3}"
  until "$@"; do
    count=$((count + 1))
    if [ "$count" -ge "$limit" ]; then return 1; fi
    sleep "$count"
  done
}
if [[ -n "${«DRY_RUN:presence»:-}" ]]; then log "dry"; exit 0; fi
while read -r name value; do
  export "$name=$value"
done < "$here/settings"
log "to $«REGISTRY» as ${«DEPLOY_USER»}"
retry push "$«REGISTRY»/$image" --token "$«DEPLOY_TOKEN»"
cat > "$here/notes" <<NOTES
Released $«TAG» by $«USER»
NOTES
«LANG:set»=C sort -o "$here/notes" "$here/notes"
''',
    "Containerfile": '''
# syntax: NOT_THIS=${NOT_THIS}
ARG «NODE_VERSION|20»=20
FROM node:${«NODE_VERSION»}-slim AS build
ARG «NPM_TOKEN»
WORKDIR /app
COPY package*.json ./
RUN echo "//registry.example/:_authToken=${«NPM_TOKEN»}" > .npmrc && npm ci && rm .npmrc
ENV «NODE_ENV:set»=production \\
    «PORT:set»=8080
COPY . .
EXPOSE $«PORT»
HEALTHCHECK --interval=30s CMD wget -q "http://localhost:${«PORT»}/health" || exit 1
ENTRYPOINT ["node"]
CMD ["server.js", "--literal=$NOT_EXPANDED"]
''',
    "compose.yaml": '''
name: office
services:
  web:
    build:
      context: .
      args: {«NODE_VERSION:set»: "20"}
    image: "registry.example/office:${«TAG|latest»:-latest}"
    environment:
      «DATABASE_URL:set»: "postgres://office:${«DB_PASSWORD»:?set it}@db/office"
      «LOG_LEVEL:set»: ${«LOG_LEVEL|info»:-info}
      «API_TOKEN»:
    ports: ["${«PUBLIC_PORT|80»:-80}:8080"]
    command: sh -c 'echo $$NOT_OURS'
  db:
    image: postgres:16
    environment:
      - «POSTGRES_PASSWORD:set»=${«DB_PASSWORD»}
      - «POSTGRES_DB:set»=office
''',
    "release.yaml": '''
name: release
env:
  «REGISTRY:set»: registry.example
jobs:
  build:
    steps:
      - name: build
        run: |
          # $NOT_THIS
          version=$(git describe --tags)
          build --tag "$«REGISTRY»/office:$version" --token "${{ secrets.«NPM_TOKEN:expression» }}"
          echo "version=$version" >> "$«STEP_OUTPUT»"
        env:
          «NODE_ENV:set»: production
      - name: push
        if: ${{ env.«DRY_RUN:expression» != 'true' }}
        run: push "$«REGISTRY»/office" --as '${{ vars.«DEPLOY_USER:expression» }}'
''',
    "web.yaml": '''
apiVersion: apps/v1
kind: Deployment
metadata: {name: web}
spec:
  template:
    spec:
      initContainers:
        - name: wait
          image: busybox
          command: ["sh", "-c", "until nc -z $«DB_HOST» ${«DB_PORT|5432»:-5432}; do sleep 1; done"]
      containers:
        - name: web
          image: web
          args: ["--port", "$(«PORT»)"]
          env:
            - {name: «PORT:set», value: "8080"}
            - name: «DB_PASSWORD:set»
              valueFrom: {secretKeyRef: {name: db, key: «DB_PASSWORD»}}
            - name: «URL:set»
              value: http://$(«HOST_NAME»):$(«PORT»)/
---
apiVersion: v1
kind: ConfigMap
metadata: {name: settings}
data:
  «LOG_LEVEL:set»: info
  nginx.conf: "listen $PORT;"
''',
    "nginx.conf.template": '''
# ${«STAGE»}
upstream app { server ${«APP_HOST»}:${«APP_PORT|8080»:-8080}; }
server {
  listen ${«LISTEN_PORT»};
  location / { proxy_set_header Host $host; proxy_pass http://app$request_uri; }
}
''',
    "settings.py": '''
from os import environ as surroundings, getenv
import os.path

BASE = os.path.dirname(__file__)
REQUIRED = ["«SECRET_KEY»", "«DATABASE_URL»"]
OPTIONAL = {"CACHE_URL": "memory", "NOT_LOOPED_OVER": 1}


class Missing(Exception):
    def __init__(self, environ):
        super().__init__(environ["NOT_OURS"])


def read(name, kind=str, *, default=None):
    try:
        return kind(surroundings[name])
    except KeyError:
        if default is None:
            raise
        return default


for name in REQUIRED:
    globals()[name] = surroundings[name]
CACHE = surroundings.get("«CACHE_URL»")
WORKERS = read("«WORKERS|4»", int, default=4)
LEVEL = (getenv("«LOG_LEVEL|info»") or "info").upper()
PIERS = [one for one in getenv("«PIERS|north»", "north").split(",") if one]
TIMEOUT = float(surroundings.get("«TIMEOUT»") or 2 * 15)
if getenv("«MODE»") not in ("fast", "slow"):
    raise Missing({})
''',
    "api.ts": '''
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
''',
    "entry.sh": '''
#!/bin/sh
# waits for ${NOT_THIS}
set -eu
if [ "${«WAIT|yes»:-yes}" = yes ]; then
  until nc -z "$«DB_HOST»" "${«DB_PORT|5432»-5432}"; do sleep 1; done
fi
for file in /run/secrets/*; do
  name=$(basename "$file")
  eval "export $name=\\"\\$(cat $file)\\""
done
case ${«ROLE|web»:-web} in
  web) set -- serve --port "${«PORT»:?}" ;;
  worker) set -- work --queue "$«QUEUE»" ;;
  *) echo "no role: $«ROLE»" >&2; exit 64 ;;
esac
[ -z "${«TRACE:presence»+x}" ] || set -x
exec env "$@"
''',
    "app.conf.j2": '''
{# env.NOT_THIS #}
host = {{ env.«APP_HOST|0.0.0.0» | default("0.0.0.0") }}
port = {{ env["«APP_PORT»"] }}
{% if env.«TLS:presence» %}
certificate = {{ env("«TLS_CERT|/etc/cert»", "/etc/cert") }}
{% endif %}
path = ${«APP_PATH»}/{{ app.env.NOT_OURS }}
''',
    "database.yml.erb": '''
production:
  url: <%= ENV.fetch("«DATABASE_URL»") %>
  pool: <%= ENV["«POOL|5»"] || 5 %>
<% if ENV["«REPLICA:presence»"] %>
  replica: true   # ENV["NOT_THIS"]
<% end %>
''',
    "page.tsx": '''
import { useState } from "react";

const API = process.env.«PUBLIC_API|/api» ?? "/api";
const limits = { rows: Number(process.env.«PUBLIC_ROWS|20» || 20), env: { NOT_OURS: 1 } };

export function Page({ env }: { env: Record<string, string> }): JSX.Element {
  const [open, setOpen] = useState(import.meta.env.«OPEN_AT_START» === "yes");
  // process.env.NOT_THIS
  return (
    <section title="process.env.NOR_THIS" onClick={() => setOpen(!open)}>
      {process.env.«PUBLIC_NOTICE:presence» && <p>{process.env.«PUBLIC_NOTICE»}</p>}
      <a href={`${API}/piers?rows=${limits.rows}`}>{env.NOT_OURS_EITHER}</a>
      {open ? <b>{process.env["«PUBLIC_TITLE»"]}</b> : null}
    </section>
  );
}
''',
}  # fmt: skip


@pytest.mark.parametrize("file", PROGRAMS)
def test_a_program_is_read_as_a_person_reads_it(file: str) -> None:
    text, labels = unmarked(PROGRAMS[file].lstrip("\n"))
    names = {item for item in found_in(Snippet("", file, file, text, frozenset(labels))) if item[1] != "?"}
    assert sorted(map(str, names - set(labels))) == []
    assert sorted(map(str, set(labels) - names)) == []
