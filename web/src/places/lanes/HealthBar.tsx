import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useSelection } from "../../frame/selection";
import { ThingLink } from "../../parts/ThingLink";
import { counted } from "../../parts/wording";
import { attachState, segmentsOf } from "./estate";
import { details } from "./plane/layout";
import type { Detail, Plan, At } from "./plane/layout";
import { waits } from "./force";
import type { Unforced } from "./force";
import type { Estate, Told } from "./estate";
import { Undo } from "./Undo";

interface Issue {
  kind: string;
  name: string;
  what: string;
  at: At | null;
}

/** What is unhealthy, in words, with the way to it. */
function issuesOf(estate: Estate, told: Told, unforced: Unforced, plan: Plan, sessions: Session[]): Issue[] {
  const out: Issue[] = unforced.behind.map((b) => ({
    kind: b.target === "hubs" ? "" : "account",
    name: b.target,
    what: `${b.target === "hubs" ? "do" : "does"} not hold what is applied: ${waits(b)}`,
    at: b.networks[0] ? find(plan, b.networks[0]) : null,
  }));
  const column = (hub: string) => plan.columns.findIndex((c) => c.hub?.name === hub);
  const lane = (segment?: string) => plan.lanes.findIndex((l) => l.name === segment && !l.internet);
  for (const h of estate.hubs) {
    const state = told.get(`hub:${h.name}`);
    if (state && state.state !== "up")
      out.push({
        kind: "hub",
        name: h.name,
        what: `is ${state.state}: ${state.why}`,
        at: { lane: 0, column: column(h.name) },
      });
  }
  for (const l of estate.links) {
    if (l.state !== "up") out.push({ kind: "link", name: l.name, what: `is down. ${l.why}`, at: null });
  }
  for (const n of estate.networks) {
    for (const a of n.at) {
      const { state, why } = attachState(told, n, a);
      if (state !== "up")
        out.push({
          kind: "attachment",
          name: `${n.name}@${a.hub}`,
          what: `is ${state}${why ? `: ${why}` : ""}`,
          at: { lane: Math.max(0, lane(segmentsOf(n)[0])), column: column(a.hub) },
        });
    }
  }
  for (const s of sessions) {
    const what = sessionIssue(s);
    if (what)
      out.push({
        kind: "network",
        name: s.network,
        what,
        at: { lane: Math.max(0, lane(s.segment)), column: column(s.hub) },
      });
  }
  for (const g of estate.gates) {
    const unhealthy = g.firewalls.filter((f) => f.state !== "healthy");
    for (const f of unhealthy) {
      const why = told.get(`firewall:${f.name}`)?.why || f.why;
      const left = g.firewalls.length - unhealthy.length;
      const rest = left > 0 ? `${left} of ${g.firewalls.length} left at ${g.hub}` : `none left at ${g.hub}`;
      out.push({
        kind: "firewall",
        name: f.name,
        what: `${f.state === "failed" ? "has failed" : `is ${f.state}`}${why ? `, ${why}` : ""}: ${rest}`,
        at: { lane: Math.max(0, lane(g.segments[0])), column: column(g.hub) },
      });
    }
  }
  return out;
}

/** What is wrong with the session of a router; "" for nothing. */
function sessionIssue(s: Session): string {
  const of = `: its router ${s.router}`;
  if (s.state === "down") return `BGP session down${of} lost its session${s.why ? `, ${s.why}` : ""}`;
  if (s.state === "never" && s.why) return `has no BGP session${of} is not connected, ${s.why}`;
  if (s.over > 0)
    return `exceeds its prefix limit${of} announces more than ${s.limit} prefixes; the rest is ignored`;
  if (s.damped.length > 0)
    return `flaps${of} announces and withdraws ${s.damped[0]?.prefix}${s.damped.length > 1 ? " and others" : ""}, ignored until they are stable`;
  return "";
}

type Session = Schemas["SessionView"];

type Props = {
  estate: Estate;
  told: Told;
  unforced: Unforced;
  sessions: Session[];
  plan: Plan;
  detail: Detail;
  onDetail: (d: Detail) => void;
  onJump: (at: At) => void;
};

/** The line above the plane: what is unhealthy, how much is drawn, and a way to anything by name. */
export function HealthBar({ estate, told, unforced, sessions, plan, detail, onDetail, onJump }: Props) {
  const issues = issuesOf(estate, told, unforced, plan, sessions);
  const [open, setOpen] = useState(false);
  const { select } = useSelection();
  return (
    <>
      <div className="flex items-center gap-4 px-5 py-2 text-[13px]">
        {issues.length === 0 ? (
          <span className="text-soft">All components are up</span>
        ) : (
          <button
            aria-expanded={open}
            onClick={() => setOpen(!open)}
            className="min-w-0 truncate text-left text-denied hover:underline"
          >
            {issues.length > 2
              ? counted(issues.length, "problem")
              : issues.map((t) => `${t.name} ${t.what.split(/[:,.]/)[0]}`).join(" · ")}
          </button>
        )}
        <span className="flex-1" />
        <button className="flex-none text-soft hover:text-ink" onClick={() => select({ kind: "many" })}>
          Place many…
        </button>
        <button className="flex-none text-soft hover:text-ink" onClick={() => select({ kind: "new" })}>
          New…
        </button>
        <Undo />
        <Jump plan={plan} onJump={onJump} />
        <div role="group" aria-label="Level of detail" className="flex flex-none rounded border border-line">
          {details.map((d) => (
            <button
              key={d}
              aria-pressed={d === detail}
              onClick={() => onDetail(d)}
              className="border-l border-line px-2.5 py-0.5 text-soft first:border-0 hover:text-ink aria-pressed:bg-wash aria-pressed:text-ink"
            >
              {d}
            </button>
          ))}
        </div>
      </div>
      {open && (
        <ul
          aria-label="Problems"
          className="max-h-44 overflow-y-auto border-t border-line bg-sheet px-5 py-2 text-[13px]"
        >
          {issues.map((t) => (
            <li key={t.kind + t.name + t.what} className="flex items-baseline gap-2 py-0.5">
              {t.kind === "" ? <span className="font-semibold">{t.name}</span> : <ThingLink thing={t} />}
              <span className="min-w-0 flex-1">{t.what}</span>
              {t.at && (
                <button className="text-accent hover:underline" onClick={() => t.at && onJump(t.at)}>
                  show
                </button>
              )}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}

/** A field that leads to a network, a hub or a segment by its name. */
function Jump({ plan, onJump }: { plan: Plan; onJump: (at: At) => void }) {
  const [text, setText] = useState("");
  const go = () => {
    const at = find(plan, text.trim().toLowerCase());
    if (at) onJump(at);
  };
  return (
    <input
      aria-label="Go to a network, hub or segment"
      placeholder="go to…"
      value={text}
      list="lanes-names"
      onChange={(event) => setText(event.target.value)}
      onKeyDown={(event) => event.key === "Enter" && go()}
      className="w-36 rounded border border-line bg-sheet px-2 py-0.5"
    />
  );
}

/** Where something of a name, or of a name that begins so, is drawn. */
export function find(plan: Plan, text: string): At | null {
  if (text === "") return null;
  for (const fits of [
    (n: string) => n === text,
    (n: string) => n.startsWith(text),
    (n: string) => n.includes(text),
  ]) {
    const lane = plan.lanes.findIndex((l) => fits(l.name));
    if (lane >= 0)
      return { lane, column: Math.max(0, Math.min(plan.columns.length - 1, plan.lanes[lane]?.from ?? 0)) };
    const column = plan.columns.findIndex((c) => c.hub && fits(c.hub.name));
    if (column >= 0) return { lane: 0, column };
    for (const cell of plan.cells.values()) {
      if (cell.chips.some((c) => fits(c.network.name))) return { lane: cell.lane, column: cell.column };
    }
  }
  return null;
}
