import { useVirtualizer } from "@tanstack/react-virtual";
import { CircleAlert } from "lucide-react";
import { useEffect, useMemo, useRef, useState } from "react";
import { NavLink, useLocation, useParams } from "react-router";
import { useTypedUrlState, useUrlState } from "../../frame/urlState";
import { Combobox } from "../../parts/Combobox";
import { counted } from "../../parts/wording";
import { AddMenu } from "./AddMenu";
import { Choose } from "./Choose";
import { useDrafts } from "./drafts";
import { addressOf, kinds, ruleKinds, says } from "./kinds";
import type { Rules } from "./kinds";
import { fits, narrowingOf, rowsOf } from "./rows";
import type { Known, Narrowing, Row } from "./rows";

type Item = Row | { title: string };

const titleHeight = 30;
const rowHeight = 44;

/** All objects, by kind; only those in view are drawn. */
export function RuleList({ rules }: { rules: Rules }) {
  const { params, change } = useUrlState();
  const [typed, setTyped] = useTypedUrlState("find");
  const { kind, name } = useParams();
  const { search } = useLocation();
  const scroller = useRef<HTMLDivElement>(null);
  const drafts = useDrafts();
  const { find, only, about, faulty } = narrowingOf(params);
  const all = useMemo(() => rowsOf(rules), [rules]);
  const names = useMemo(() => namesOf(rules), [rules]);
  const items = useMemo(() => {
    const writing = new Map(drafts.map((d) => [`${d.kind} ${d.name}`, d]));
    const rows = all.map((r) => ({
      ...r,
      writing: writing.has(`${r.kind} ${r.name}`) ? ("changed" as const) : r.writing,
    }));
    for (const d of drafts) {
      if (d.base !== "absent" || rows.some((r) => r.kind === d.kind && r.name === d.name)) continue;
      const words = says(d.kind, d.object);
      rows.push({
        kind: d.kind,
        name: d.name,
        words,
        off: false,
        problems: 0,
        writing: "new",
        refers: new Set(),
        object: d.object,
      });
    }
    return titled(rows, { find, only, about, faulty });
  }, [all, drafts, find, only, about, faulty]);
  // The virtualizer keeps state of its own, which the compiler cannot see.
  // eslint-disable-next-line react-hooks/incompatible-library
  const list = useVirtualizer({
    count: items.length,
    getScrollElement: () => scroller.current,
    estimateSize: (i) => (items[i] && "title" in items[i] ? titleHeight : rowHeight),
    overscan: 12,
  });
  const at = items.findIndex((x) => "kind" in x && x.kind === kind && x.name === name);
  useEffect(() => {
    if (at >= 0) list.scrollToIndex(at, { align: "auto" });
    // eslint-disable-next-line react-hooks/exhaustive-deps -- to the object that is opened, not on each scroll
  }, [kind, name]);
  const narrowed = find !== "" || only !== "" || about !== "" || faulty;
  return (
    <nav aria-label="Rules" className="flex w-[264px] flex-none flex-col border-r border-line">
      <div className="flex flex-col gap-1.5 px-4 pt-3 pb-2 text-[13px]">
        <div className="flex gap-2">
          <input
            aria-label="Find a rule"
            placeholder="find by name, group, service…"
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
            className="min-w-0 flex-1 rounded border border-line bg-sheet px-2 py-0.5"
          />
          <AddMenu />
        </div>
        <div className="flex gap-2">
          <Choose
            label="Kind"
            small
            value={only || "all kinds"}
            values={["all kinds", "guardrail", ...ruleKinds]}
            onChange={(v) => change({ kind: v === "all kinds" ? null : v }, true)}
          />
          <RefersTo key={about} names={names} value={about} onChange={(v) => change({ about: v }, true)} />
          <button
            aria-pressed={faulty}
            title="only those with faults or findings"
            aria-label="Has a problem"
            onClick={() => change({ faulty: faulty ? null : "yes" }, true)}
            className="rounded border border-line px-1.5 text-soft hover:border-accent aria-pressed:border-accent aria-pressed:text-accent"
          >
            <CircleAlert size={13} />
          </button>
        </div>
        <div className="flex justify-between">
          {[
            ["find", "find by effect…"],
            ["several", "change several…"],
          ].map(([path, words]) => (
            <NavLink
              key={path}
              to={{ pathname: `/rules/${path}`, search }}
              className="text-soft hover:text-accent aria-[current=page]:font-semibold aria-[current=page]:text-accent"
            >
              {words}
            </NavLink>
          ))}
        </div>
      </div>
      <div ref={scroller} className="min-h-0 flex-1 overflow-y-auto">
        {items.length === 0 && (
          <p className="px-5 py-1 text-[13px] text-soft">{narrowed ? "Nothing matches." : "No rules yet."}</p>
        )}
        <div className="relative" style={{ height: list.getTotalSize() }}>
          {list.getVirtualItems().map((row) => {
            const item = items[row.index];
            return (
              item && (
                <div
                  key={row.key}
                  className="absolute inset-x-0"
                  style={{ top: row.start, height: row.size }}
                >
                  {"title" in item ? (
                    <h2 className="px-5 pt-2 text-xs text-soft">{item.title}</h2>
                  ) : (
                    <RuleLink row={item} />
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

/** How many names are proposed. */
const proposed = 12;

interface RefersToProps {
  names: string[];
  value: string;
  onChange: (value: string | null) => void;
}

/** Narrows the list to what refers to one thing. */
function RefersTo({ names, value, onChange }: RefersToProps) {
  const [typed, setTyped] = useState(value);
  const text = typed.trim().toLowerCase();
  const choices = names.filter((n) => n.includes(text)).slice(0, proposed);
  return (
    <span className="flex min-w-0 flex-1 items-center rounded border border-line bg-sheet px-2">
      <Combobox
        id="refers-to"
        label="Refers to"
        placeholder="refers to…"
        value={typed}
        choices={choices.map((n) => ({ text: n, kind: "", hint: "" }))}
        className="block w-full"
        onType={(t) => {
          setTyped(t);
          if (t === "") onChange(null);
        }}
        onCommit={(t) => onChange(names.includes(t) ? t : (choices[0] ?? null))}
      />
    </span>
  );
}

/** What the list can be narrowed by: anything that rules refer to. */
function namesOf(rules: Rules): string[] {
  return [
    ...rules.segments.map((o) => `segment ${o.name}`),
    ...rules.pools.map((o) => `pool ${o.name}`),
    ...rules.services.map((o) => `service ${o.name}`),
    ...rules.groups.map((o) => `group ${o.name}`),
  ];
}

/** Those rows that fit, guardrails first, with a title over each kind. */
function titled(rows: Known[], narrowing: Narrowing): Item[] {
  const out: Item[] = [];
  const part = (one: string, many: string, list: Known[]) => {
    if (list.length === 0) return;
    out.push({ title: counted(list.length, one, many) });
    out.push(...list.sort((a, b) => (a.name < b.name ? -1 : 1)));
  };
  const found = rows.filter((r) => fits(r, narrowing));
  const guardrail = (r: Known) => r.refers.has("guardrail");
  part("guardrail", "guardrails", found.filter(guardrail));
  for (const kind of ruleKinds) {
    part(
      kinds[kind].one,
      kinds[kind].many,
      found.filter((r) => r.kind === kind && !guardrail(r)),
    );
  }
  return out;
}

function RuleLink({ row }: { row: Row }) {
  const { search } = useLocation();
  return (
    <NavLink
      to={{ pathname: addressOf(row.kind, row.name), search }}
      className="block border-l-[3px] border-transparent px-[17px] py-1 hover:bg-wash aria-[current=page]:border-accent aria-[current=page]:bg-wash"
    >
      <span className="flex items-center gap-1.5">
        <span className={`min-w-0 truncate ${row.off ? "text-soft line-through" : "font-semibold"}`}>
          {row.name}
        </span>
        {row.off && <span className="flex-none text-xs text-soft">off</span>}
        {row.writing && <span className="flex-none text-xs text-accent">{row.writing}, not saved</span>}
        {row.problems > 0 && !row.writing && (
          <span className="ml-auto flex-none text-xs text-soft">{counted(row.problems, "problem")}</span>
        )}
      </span>
      <span className="block truncate text-xs text-soft">{row.words}</span>
    </NavLink>
  );
}
