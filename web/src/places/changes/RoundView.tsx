import { useState } from "react";
import type { PacketResult, PacketRound } from "../../api/plans";
import { counted, grouped, moment } from "../../parts/wording";
import { PacketView } from "../../road/PacketView";

/** A round of packets in a line, and what came out otherwise than predicted. */
export function RoundView({ r }: { r: PacketRound }) {
  return (
    <div className="max-w-[64rem] border-t border-line py-2" data-testid="round">
      <p>
        <strong className={r.wrong === 0 ? "text-allowed" : "text-denied"}>
          {r.wrong === 0
            ? `All ${grouped(r.sent)} packets did what was predicted`
            : `${grouped(r.wrong)} of ${counted(r.sent, "packet")} did something else`}
        </strong>
        <span className="text-[13px] text-soft">
          {" "}
          {r.segment && ` · segment ${r.segment}`} · revision {r.revision}, {moment(r.at)}, by {r.actor} ·{" "}
          {grouped(r.passed)} arrived
          {r.stricter > 0 &&
            ` · ${grouped(r.stricter)} were stopped by lists that cannot tell addresses apart`}
        </span>
      </p>
      {r.results.map((x, i) => (
        <Wrong key={i} x={x} />
      ))}
    </div>
  );
}

function Wrong({ x }: { x: PacketResult }) {
  const [open, setOpen] = useState(false);
  return (
    <div className="py-0.5 pl-4">
      <button aria-expanded={open} onClick={() => setOpen(!open)} className="text-left hover:underline">
        {x.witness.source} to {x.witness.destination} on {x.witness.on}
        <span className="text-soft">
          : predicted {x.predicted.words}, was {x.words}
        </span>
      </button>
      {open && <PacketView r={x} />}
    </div>
  );
}
