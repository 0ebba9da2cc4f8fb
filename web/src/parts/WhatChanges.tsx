import { ArrowRight } from "lucide-react";
import type { ReactNode } from "react";
import type { Schemas } from "../api/client";
import { useUrlState } from "../frame/urlState";
import { RoadMark } from "./marks/RoadMark";
import { counted, serviceWords } from "./wording";

type Props = Pick<Schemas["Effect"], "flows" | "more" | "expectations"> & {
  /** Flows can be asked about: not where a draft would be left for that. */
  asks?: boolean;
};

/** What an edit does: expectations that fare differently, and flows, each with one of them that can be asked about. */
export function WhatChanges({ flows, more, expectations, asks = false }: Props) {
  return (
    <>
      {expectations.length > 0 && <Expectations list={expectations} asks={asks} />}
      {flows.length === 0 ? (
        <p className="text-soft">No flows change.</p>
      ) : (
        <ul aria-label="Flows that change" className="text-[13px]">
          {flows.map((f, i) => (
            <li key={i} className="border-t border-line">
              <Asking witness={asks ? f.witness : null}>
                <span className="flex items-center gap-2">
                  {f.before ? <RoadMark mark={f.before} /> : <span className="text-soft">new</span>}
                  <ArrowRight size={12} className="flex-none text-soft" />
                  {f.after ? <RoadMark mark={f.after} /> : <span className="text-soft">removed</span>}
                  <span className="flex-none font-semibold">
                    {f.from} → {f.to}
                  </span>
                  <span className="min-w-0 truncate font-mono">{serviceWords(f.services)}</span>
                </span>
                <span className="block text-soft">
                  {f.before && f.after && !f.outcome && "same outcome, different rule; "}for example{" "}
                  {f.witness.source} → {f.witness.destination}
                </span>
              </Asking>
            </li>
          ))}
          {more > 0 && (
            <li className="border-t border-line py-1 text-soft">and {counted(more, "more", "more")}</li>
          )}
        </ul>
      )}
    </>
  );
}

export const statusWords: Record<Schemas["ExpectationStatus"], string> = {
  holds: "holds",
  "holds-by-routing": "holds only because no route exists",
  "holds-vacuously": "holds, matches no flow",
  breaks: "fails",
};

function Expectations({ list, asks }: { list: Schemas["ExpectationEffect"][]; asks: boolean }) {
  const broken = list.filter((x) => x.after === "breaks").length;
  return (
    <ul
      aria-label="Expectations that change"
      className={`mb-2 border-l-[3px] px-3 py-1 text-[13px] ${broken > 0 ? "border-denied bg-denied/8" : "border-allowed bg-allowed/8"}`}
    >
      {list.map((x) => (
        <li key={x.name} className="py-0.5">
          <span className="flex items-center gap-2">
            <span className="min-w-0 truncate font-semibold">{x.name}</span>
            <span className="text-soft">{statusWords[x.before]}</span>
            <ArrowRight size={12} className="flex-none text-soft" />
            <span className={x.after === "breaks" ? "font-semibold text-denied" : ""}>
              {statusWords[x.after]}
            </span>
          </span>
          {x.witness && (
            <Asking witness={asks ? x.witness : null}>
              <span className="text-soft">
                for example {x.witness.source} → {x.witness.destination}, {x.witness.on}
              </span>
            </Asking>
          )}
        </li>
      ))}
    </ul>
  );
}

/** Asks about a flow where it is clicked, if there is one to ask about. */
function Asking({ witness, children }: { witness: Schemas["Witness"] | null; children: ReactNode }) {
  const { change } = useUrlState();
  if (!witness) return <div className="py-1">{children}</div>;
  return (
    <button
      className="block w-full py-1 text-left hover:text-accent"
      onClick={() =>
        change({ from: witness.from, to: witness.to, on: witness.on, row: null, col: null, at: null })
      }
    >
      {children}
    </button>
  );
}
