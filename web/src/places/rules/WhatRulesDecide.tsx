import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../../api/client";
import { decidedQuery } from "../../api/queries";
import { useUrlState } from "../../frame/urlState";
import { RoadMark } from "../../parts/marks/RoadMark";
import { serviceWords } from "../../parts/wording";

type RuleDecides = Schemas["Decided"]["rules"][number];

/** What each rule of a policy, share or rulebook decides of the flows that there really are. */
export function WhatRulesDecide({ kind, name }: { kind: string; name: string }) {
  const decided = useQuery(decidedQuery(`${kind}:${name}`));
  if (!decided.data || decided.data.rules.length === 0) return null;
  return (
    <section className="pb-4">
      <h2 className="pb-1 font-semibold">
        {kind === "rulebook" ? "What each rule decides of steered flows" : "What each rule decides"}
      </h2>
      <ol>
        {decided.data.rules.map((r) => (
          <li key={r.rule} className="grid grid-cols-[18px_minmax(0,1fr)] border-t border-line py-1">
            <span className="leading-6 text-soft">{r.rule}</span>
            <OneRule rule={r} />
          </li>
        ))}
      </ol>
    </section>
  );
}

function OneRule({ rule }: { rule: RuleDecides }) {
  if (rule.flows.length === 0) {
    return <p className="py-0.5 text-denied">{unreached(rule.shadowedBy)}</p>;
  }
  return (
    <ul>
      {rule.flows.map((f) => (
        <li key={f.outcome + f.counts}>
          <Flows flows={f} />
        </li>
      ))}
    </ul>
  );
}

function Flows({ flows: f }: { flows: RuleDecides["flows"][number] }) {
  const { change } = useUrlState();
  const services = serviceWords(f.services);
  return (
    <button
      className="flex min-h-6 w-full items-center gap-2 rounded text-left hover:bg-raised hover:text-accent"
      aria-label={`${services}: ${f.outcome}${f.counts ? "" : ", overridden"}; show path of ${f.witness.source} → ${f.witness.destination}`}
      title={f.sentence.map((t) => t.text).join("")}
      onClick={() =>
        change({ from: f.witness.from, to: f.witness.to, on: f.witness.on, row: null, col: null, at: null })
      }
    >
      <RoadMark mark={{ outcome: f.outcome, contested: false }} size={11} />
      <span className={`min-w-0 truncate font-mono text-xs ${f.counts ? "" : "text-soft"}`}>{services}</span>
      {!f.counts && <span className="flex-none text-xs text-soft">overridden</span>}
    </button>
  );
}

/** Why no flow reaches a rule. */
export function unreached(shadowedBy: number[]): string {
  const last = shadowedBy.at(-1);
  if (last === undefined) return "No flow reaches it.";
  if (shadowedBy.length === 1) return `No flow reaches it: rule ${last} contains all of its flows.`;
  return `No flow reaches it: rules ${shadowedBy.slice(0, -1).join(", ")} and ${last} contain all of its flows.`;
}
