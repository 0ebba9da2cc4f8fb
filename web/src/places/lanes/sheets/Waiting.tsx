import { useState } from "react";
import type { Schemas } from "../../../api/client";
import type { WiringEdit } from "../../../api/queries";
import { ThingLink } from "../../../parts/ThingLink";
import { Consequence } from "../../../parts/Consequence";
import { Part } from "./Sheet";

type Row = Schemas["WaitingRow"];

/** Learned prefixes that are not accepted, or gone: what each would overlap or draw away, or what relies on it; and the decision. */
export function Waiting({ rows, more }: { rows: Row[]; more: number }) {
  const [decided, setDecided] = useState<WiringEdit | null>(null);
  return (
    <Part title="Learned, not in use">
      <ul className="text-[13px]">
        {rows.map((r) => (
          <Learned
            key={r.network + r.hub + r.prefix + r.segment}
            row={r}
            decided={decided && decided.prefix === r.prefix && decided.network === r.network ? decided : null}
            onDecide={setDecided}
          />
        ))}
      </ul>
      {more > 0 && <p className="pt-1 text-xs text-soft">and {more} more</p>}
    </Part>
  );
}

/** What can be decided of a learned prefix, by its status. */
const choices: Record<string, [words: string, verb: string, edit: Partial<WiringEdit>][]> = {
  waiting: [
    ["accept", "Accept prefix", { op: "learn", status: "accepted" }],
    ["refuse", "Refuse prefix", { op: "learn", status: "refused" }],
  ],
  refused: [
    ["accept", "Accept prefix", { op: "learn", status: "accepted" }],
    ["forget", "Forget prefix", { op: "forget" }],
  ],
  withdrawn: [["forget", "Forget prefix", { op: "forget" }]],
};

type Props = { row: Row; decided: WiringEdit | null; onDecide: (e: WiringEdit | null) => void };

function Learned({ row: r, decided, onDecide }: Props) {
  const { network, hub, prefix, segment } = r;
  const offered = choices[r.status] ?? [];
  const verb = offered.find(([, , e]) => e.op === decided?.op && e.status === decided?.status)?.[1];
  return (
    <li data-learned={r.prefix} data-status={r.status} className="border-t border-line py-1.5">
      <span className="flex items-baseline gap-2">
        <span className="font-mono text-xs">{r.prefix}</span>
        <span className={`min-w-0 flex-1 ${r.status === "withdrawn" ? "text-denied" : "text-soft"}`}>
          {r.status === "withdrawn" ? "no longer announced" : r.status} · {r.segment}, from {r.network} at{" "}
          {r.hub}
        </span>
        {offered.map(([words, , edit]) => (
          <button
            key={words}
            className="text-accent hover:underline"
            onClick={() => onDecide({ op: "learn", ...edit, network, hub, prefix, segment })}
          >
            {words}
          </button>
        ))}
      </span>
      {r.overlaps.length > 0 && (
        <span className="block text-denied">would overlap {r.overlaps.join(", ")}</span>
      )}
      {r.draws.length > 0 && (
        <span className="block">would draw addresses away from {r.draws.join(", ")}</span>
      )}
      {r.status === "withdrawn" && (
        <span className="block">
          its addresses are unreachable
          {r.relied.length > 0 && ", still used by "}
          {r.relied.slice(0, 6).map((t, i) => (
            <span key={t.kind + t.name}>
              {i > 0 && ", "}
              <ThingLink thing={t} />
            </span>
          ))}
        </span>
      )}
      {decided && verb && (
        <Consequence edit={{ wiring: [decided] }} verb={verb} onDone={() => onDecide(null)} />
      )}
    </li>
  );
}
