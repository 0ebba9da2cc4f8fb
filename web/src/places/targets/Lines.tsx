import { useState } from "react";
import { Link, useLocation } from "react-router";
import type { Line } from "../../api/targets";
import type { Schemas } from "../../api/client";
import { counted } from "../../parts/wording";
import { runsOf } from "./runs";

interface Props {
  lines: Line[];
  sets: Map<string, string[]>;
  /** What stands for the side of the workloads that bear a list. */
  own?: string;
}

/** How many lines are shown before the rest is asked for. */
const page = 200;

/** Rules, entries and routes, in the order in which they are asked. */
export function Lines({ lines, sets, own }: Props) {
  const runs = runsOf(lines);
  const [most, setMost] = useState(page);
  const some = (of: (l: Line) => boolean) => lines.some(of);
  const way = some((l) => l.way !== "");
  const from = some((l) => l.from.length > 0) || way;
  const services = some((l) => l.services.length > 0);
  const reasons = some((l) => l.for.length > 0);
  const to = services || some((l) => l.to.length > 0);
  return (
    <>
      <table className="w-full text-left text-[13px]">
        <thead>
          <tr className="text-soft">
            <th className="w-16 py-1 pr-3 text-right font-normal">{way ? "Order" : ""}</th>
            {way && <th className="w-10 pr-3 font-normal">Way</th>}
            <th className="pr-3 font-normal">Does</th>
            {services && <th className="pr-3 font-normal">Services</th>}
            {from && <th className="pr-3 font-normal">From</th>}
            {to && <th className="pr-3 font-normal">To</th>}
            {reasons && <th className="font-normal">Because of</th>}
          </tr>
        </thead>
        <tbody>
          {runs.slice(0, most).map((l, i) => (
            <tr key={i} className="border-t border-line align-top">
              <td className="py-1 pr-3 text-right whitespace-nowrap text-soft tabular-nums">
                {l.last > l.place ? `${l.place}–${l.last}` : l.place}
              </td>
              {way && <td className="py-1 pr-3 text-soft">{l.way}</td>}
              <td className="py-1 pr-3">
                <Does line={l} />
              </td>
              {services && (
                <td className="max-w-[13rem] py-1 pr-3">
                  <Folded words={l.services} most={4} one="service" />
                </td>
              )}
              {from && (
                <td className="max-w-[17rem] py-1 pr-3">
                  <Ends ends={l.from} sets={sets} every={l.way === "out" ? own : undefined} />
                </td>
              )}
              {to && (
                <td className="max-w-[17rem] py-1 pr-3">
                  <Ends ends={l.to} sets={sets} every={l.way === "in" ? own : undefined} />
                </td>
              )}
              {reasons && (
                <td className="py-1">
                  <Reasons line={l} />
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
      {runs.length > most && (
        <button className="pt-1 text-accent hover:underline" onClick={() => setMost(most + 5 * page)}>
          Show more of {counted(lines.length, "line")}
        </button>
      )}
    </>
  );
}

/** From how many prefixes on the public addresses are all of them but a few. */
const manyPublic = 40;

const ink: Record<string, string> = {
  allow: "text-allowed",
  permit: "text-allowed",
  pass: "text-allowed",
  deny: "text-denied",
  drop: "text-denied",
  reject: "text-denied",
  steer: "text-inspected",
};

function Does({ line }: { line: Line }) {
  return (
    <span className={ink[line.verb] ?? ""}>
      {line.verb}
      {line.through.length > 0 && ` through ${line.through.join(", then ")}`}
    </span>
  );
}

interface EndsProps {
  ends: Schemas["NativeEnd"][];
  sets: Map<string, string[]>;
  every?: string | undefined;
}

function Ends({ ends, sets, every = "any" }: EndsProps) {
  if (ends.length === 0) return <span className={every === "any" ? "" : "text-soft"}>{every}</span>;
  const bySide = new Map<string, string[]>();
  for (const e of ends) {
    const side = e.exit ? `internet, by ${e.exit}` : e.segment;
    const all = e.set ? (sets.get(e.set) ?? []) : e.prefixes;
    const words = e.set.startsWith("internet-") && all.length > manyPublic ? ["all public addresses"] : all;
    bySide.set(side, [...(bySide.get(side) ?? []), ...(words.length > 0 ? words : ["any address"])]);
  }
  return (
    <>
      {[...bySide].map(([side, words]) => (
        <span key={side} className="block">
          {side && <span className="text-soft">{side} </span>}
          <Folded words={words} most={3} one="prefix" many="prefixes" />
        </span>
      ))}
    </>
  );
}

/** Words of which a few are shown, and the rest when they are asked for. */
export function Folded({
  words,
  most,
  one,
  many,
}: {
  words: string[];
  most: number;
  one: string;
  many?: string;
}) {
  const [open, setOpen] = useState(false);
  const shown = open || words.length <= most + 1 ? words : words.slice(0, most);
  return (
    <span className="break-words">
      {shown.join(", ")}
      {shown.length < words.length && (
        <>
          {" "}
          <button className="text-accent hover:underline" onClick={() => setOpen(true)}>
            and {counted(words.length - shown.length, `more ${one}`, `more ${many ?? `${one}s`}`)}
          </button>
        </>
      )}
      {open && (
        <>
          {" "}
          <button className="text-accent hover:underline" onClick={() => setOpen(false)}>
            fewer
          </button>
        </>
      )}
    </span>
  );
}

/** How many rules that a line is there for are listed before the rest is asked for. */
const fewReasons = 4;

function Reasons({ line }: { line: Line }) {
  const { search } = useLocation();
  const [all, setAll] = useState(false);
  if (line.for.length === 0) return <span className="text-soft">{otherReason(line)}</span>;
  const params = new URLSearchParams(search);
  params.delete("for");
  const shown = all || line.for.length <= fewReasons + 1 ? line.for : line.for.slice(0, fewReasons);
  return (
    <ul>
      {shown.map((r) => (
        <li key={`${r.kind} ${r.name} ${r.rule}`}>
          <Link
            to={
              r.kind === "segment"
                ? `/estate?${withThing(params, r)}`
                : { pathname: `/rules/${r.kind}/${r.name}`, search: params.toString() }
            }
            className="hover:text-accent hover:underline"
          >
            {r.kind === "segment" ? `default of ${r.name}` : r.name}
            {r.rule > 0 && <span className="text-soft"> rule {r.rule}</span>}
          </Link>
        </li>
      ))}
      {shown.length < line.for.length && (
        <li>
          <button className="min-h-6 text-accent hover:underline" onClick={() => setAll(true)}>
            and {counted(line.for.length - shown.length, "more rule", "more rules")}
          </button>
        </li>
      )}
    </ul>
  );
}

/** Why there is a rule that no policy or share asks for. */
function otherReason(line: Line): string {
  if (line.verb === "deny") return "nothing allows it";
  if (line.verb !== "allow") return "";
  return line.way === "out" ? "left to the destination's list" : "not enforced here";
}

function withThing(params: URLSearchParams, r: Schemas["NativeRef"]): string {
  const next = new URLSearchParams(params);
  next.set("thing", `${r.kind}:${r.name}`);
  return next.toString();
}
