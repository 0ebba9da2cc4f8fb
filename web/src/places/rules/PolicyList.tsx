import { NavLink, useLocation } from "react-router";
import type { Schemas } from "../../api/client";
import { ruleWords, sideWords } from "../../parts/wording";

/** All policies, guardrails first, each with what it says first. */
export function PolicyList({ policies }: { policies: Schemas["Policy"][] }) {
  const guardrails = policies.filter((p) => p.tier === "guardrail");
  const others = policies.filter((p) => p.tier !== "guardrail");
  return (
    <nav aria-label="Policies" className="w-[264px] flex-none overflow-y-auto border-r border-line py-3">
      <Part title="Guardrails" policies={guardrails} />
      <Part title="Policies" policies={others} />
    </nav>
  );
}

function Part({ title, policies }: { title: string; policies: Schemas["Policy"][] }) {
  const { search } = useLocation();
  return (
    <section className="pb-3">
      <h2 className="px-5 pb-1 text-xs text-soft">
        {title} <span>{policies.length}</span>
      </h2>
      {policies.map((p) => (
        <NavLink
          key={p.name}
          to={{ pathname: `/rules/${p.name}`, search }}
          className="block border-l-[3px] border-transparent px-[17px] py-1 hover:bg-wash aria-[current=page]:border-accent aria-[current=page]:bg-wash"
        >
          <span
            className={`block truncate ${p.enabled === false ? "text-soft line-through" : "font-semibold"}`}
          >
            {p.name}
          </span>
          <span className="block truncate text-xs text-soft">
            {sideWords(p.from)} → {sideWords(p.to)}: {p.rules[0] ? ruleWords(p.rules[0]) : "no rule"}
          </span>
        </NavLink>
      ))}
    </section>
  );
}
