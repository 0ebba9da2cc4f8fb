import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { NavLink, useLocation, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { counted, ruleWords, sideWords } from "../../parts/wording";

type Policy = Schemas["Policy"];
type Item = { title: string; many: string; count: number } | Policy;

const titleHeight = 30;
const policyHeight = 44;

/** All policies, guardrails first, each with what it says first; only those in view are drawn. */
export function PolicyList({ policies }: { policies: Policy[] }) {
  const [find, setFind] = useState("");
  const { name } = useParams();
  const scroller = useRef<HTMLDivElement>(null);
  const items = useMemo(() => listed(policies, find), [policies, find]);
  // The virtualizer keeps state of its own, which the compiler cannot see.
  // eslint-disable-next-line react-hooks/incompatible-library
  const rows = useVirtualizer({
    count: items.length,
    getScrollElement: () => scroller.current,
    estimateSize: (i) => (items[i] && "title" in items[i] ? titleHeight : policyHeight),
    overscan: 12,
  });
  const at = items.findIndex((x) => "name" in x && x.name === name);
  useEffect(() => {
    if (at >= 0) rows.scrollToIndex(at, { align: "auto" });
    // eslint-disable-next-line react-hooks/exhaustive-deps -- to the policy that is opened, not on each scroll
  }, [name]);
  return (
    <nav aria-label="Policies" className="flex w-[264px] flex-none flex-col border-r border-line">
      <div className="px-4 pt-3 pb-1.5">
        <input
          aria-label="Find a policy"
          placeholder="find by name, group, service…"
          value={find}
          onChange={(event) => setFind(event.target.value)}
          className="w-full rounded border border-line bg-sheet px-2 py-0.5 text-[13px]"
        />
      </div>
      <div ref={scroller} className="min-h-0 flex-1 overflow-y-auto">
        {items.length === 0 && <p className="px-5 py-1 text-[13px] text-soft">none has “{find}”</p>}
        <div className="relative" style={{ height: rows.getTotalSize() }}>
          {rows.getVirtualItems().map((row) => {
            const item = items[row.index];
            return (
              item && (
                <div
                  key={row.key}
                  className="absolute inset-x-0"
                  style={{ top: row.start, height: row.size }}
                >
                  {"title" in item ? (
                    <h2 className="px-5 pt-2 text-xs text-soft">
                      {counted(item.count, item.title, item.many)}
                    </h2>
                  ) : (
                    <PolicyLink policy={item} />
                  )}
                </div>
              )
            );
          })}
        </div>
      </div>
    </nav>
  );
}

/** Those policies that have a text in what is shown of them, with titles between. */
function listed(policies: Policy[], find: string): Item[] {
  const text = find.trim().toLowerCase();
  const found = text === "" ? policies : policies.filter((p) => wordsOf(p).toLowerCase().includes(text));
  const guardrails = found.filter((p) => p.tier === "guardrail");
  const others = found.filter((p) => p.tier !== "guardrail");
  const part = (title: string, many: string, list: Policy[]): Item[] =>
    list.length > 0 ? [{ title, many, count: list.length }, ...list] : [];
  return [...part("guardrail", "guardrails", guardrails), ...part("policy", "policies", others)];
}

/** A policy in words: its name, and all that it says. */
function wordsOf(p: Policy): string {
  return `${p.name} ${sideWords(p.from)} → ${sideWords(p.to)}: ${p.rules.map(ruleWords).join(", ")}`;
}

function PolicyLink({ policy }: { policy: Policy }) {
  const { search } = useLocation();
  return (
    <NavLink
      to={{ pathname: `/rules/${policy.name}`, search }}
      className="block border-l-[3px] border-transparent px-[17px] py-1 hover:bg-wash aria-[current=page]:border-accent aria-[current=page]:bg-wash"
    >
      <span
        className={`block truncate ${policy.enabled === false ? "text-soft line-through" : "font-semibold"}`}
      >
        {policy.name}
      </span>
      <span className="block truncate text-xs text-soft">
        {sideWords(policy.from)} → {sideWords(policy.to)}:{" "}
        {policy.rules[0] ? ruleWords(policy.rules[0]) : "no rule"}
      </span>
    </NavLink>
  );
}
