import { ArrowRight } from "lucide-react";
import type { Schemas } from "../api/client";
import { RoadMark } from "./marks/RoadMark";
import { counted, serviceWords } from "./wording";

/** Flows that fare differently, each with one of them. */
export function FlowsThatChange({ flows, more }: { flows: Schemas["FlowEffect"][]; more: number }) {
  if (flows.length === 0) return <p className="text-soft">No flow fares differently.</p>;
  return (
    <ul aria-label="Flows that change" className="text-[13px]">
      {flows.map((f, i) => (
        <li key={i} className="border-t border-line py-1">
          <span className="flex items-center gap-2">
            {f.before ? <RoadMark mark={f.before} /> : <span className="text-soft">new</span>}
            <ArrowRight size={12} className="flex-none text-soft" />
            {f.after ? <RoadMark mark={f.after} /> : <span className="text-soft">gone</span>}
            <span className="font-semibold">
              {f.from} → {f.to}
            </span>
            <span className="min-w-0 truncate font-mono">{serviceWords(f.services)}</span>
          </span>
          <span className="block text-soft">
            {f.before && f.after && !f.outcome && "same outcome, settled otherwise; "}such as{" "}
            {f.witness.source} → {f.witness.destination}
          </span>
        </li>
      ))}
      {more > 0 && <li className="py-1 text-soft">and {counted(more, "more")}</li>}
    </ul>
  );
}
