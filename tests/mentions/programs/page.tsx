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
