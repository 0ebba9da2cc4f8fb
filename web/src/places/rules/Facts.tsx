import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, useLocation } from "react-router";
import type { Schemas } from "../../api/client";
import { failuresQuery, scopeQuery, sheetQuery } from "../../api/queries";
import { useUrlState } from "../../frame/urlState";
import { Marks } from "../../parts/marks/RoadMark";
import { Sentence } from "../../parts/Sentence";
import { ThingLink } from "../../parts/ThingLink";
import { statusWords } from "../../parts/WhatChanges";
import { capital, counted, serviceWords } from "../../parts/wording";
import { addressOf } from "./kinds";
import { scopeOf } from "./scope";
import { WhatRulesDecide } from "./WhatRulesDecide";
import type { RuleKind, RuleObject } from "./kinds";

interface Props {
  kind: RuleKind;
  name: string;
  object: RuleObject;
  about: Schemas["About"] | undefined;
  usedBy: Schemas["Thing"][];
  /** It is in the estate already, and not only being written. */
  saved: boolean;
  /** A path is shown beside the place: on a small screen, there is no room for both. */
  beside: boolean;
}

/** What is worth knowing of an object while it is written: who is on its sides, what it overrides, who uses it. */
export function Facts({ kind, name, object, about, usedBy, saved, beside }: Props) {
  return (
    <aside
      aria-label="Facts"
      className={`hidden w-[296px] flex-none overflow-y-auto border-l border-line px-5 py-5 text-[13px] ${beside ? "min-[1600px]:block" : "min-[1100px]:block"}`}
    >
      <Scope kind={kind} name={name} object={object} about={about} saved={saved} />
      {about?.expectation && <State state={about.expectation} />}
      {about?.answer && <FromTheInternet answer={about.answer} />}
      {about?.sides.map((s) => (
        <Side key={s.side} side={s} />
      ))}
      {about && about.relations.length > 0 && <Relations list={about.relations} name={name} />}
      {about && (about.within.length > 0 || about.nested.length > 0) && <Nesting about={about} name={name} />}
      {usedBy.length > 0 && (
        <Part title={`Used by ${counted(usedBy.length, "object")}`}>
          <span className="flex flex-wrap gap-1.5">
            {usedBy.slice(0, 24).map((t) => (
              <ThingLink key={`${t.kind} ${t.name}`} thing={t} />
            ))}
            {usedBy.length > 24 && <span className="text-soft">and {usedBy.length - 24} more</span>}
          </span>
        </Part>
      )}
      {saved && usedBy.length === 0 && ["group", "service", "pool", "rulebook"].includes(kind) && (
        <p className="pb-4 text-soft">Nothing uses it.</p>
      )}
      {saved && kind === "pool" && <IfAFirewallFails pool={name} />}
      {saved && ["policy", "share", "rulebook"].includes(kind) && <WhatRulesDecide kind={kind} name={name} />}
      {saved && <Problems kind={kind} name={name} />}
      {saved && ["policy", "share", "publication", "rulebook"].includes(kind) && (
        <NativeRules kind={kind} name={name} />
      )}
    </aside>
  );
}

/** Where the rules that it becomes at hubs, clouds and premises can be seen. */
function NativeRules({ kind, name }: { kind: RuleKind; name: string }) {
  const { search } = useLocation();
  const params = new URLSearchParams(search);
  params.set("for", `${kind}/${name}`);
  return (
    <Part title="Native rules">
      <Link className="text-accent hover:underline" to={`/targets?${params}`}>
        What it becomes at hubs, clouds and premises
      </Link>
    </Part>
  );
}

/** Where the object can be seen at work: the cells of the board, and the networks and pools on Lanes. */
function Scope({
  kind,
  name,
  object,
  about,
  saved,
}: Pick<Props, "kind" | "name" | "object" | "about" | "saved">) {
  const of = `${kind}:${name}`;
  const whole = useQuery({ ...scopeQuery(of), enabled: saved && kind !== "service" });
  const scope = scopeOf(kind, object, about);
  const params = new URLSearchParams();
  const asked = new URLSearchParams(
    scope ? { from: scope.from, to: scope.to, on: scope.on, road: "shown" } : {},
  );
  if (whole.data) {
    params.set("scope", of);
    asked.set("scope", of);
  }
  const open = scope?.open ?? openFor(whole.data?.cells ?? []);
  if (open.length > 0) params.set("open", open.join(","));
  if (scope) {
    params.set("row", scope.row);
    params.set("col", scope.col);
  }
  if (!scope && !whole.data) return null;
  const link = "rounded border border-line px-2 py-0.5 hover:border-accent hover:text-accent";
  return (
    <>
      <p className="flex gap-2 pb-4">
        <Link className={link} to={`/board?${params}`}>
          Show on the Board
        </Link>
        <Link className={link} to={`/lanes?${asked}`}>
          Show on Lanes
        </Link>
      </p>
      {(kind === "pool" || kind === "rulebook") && whole.data && <Passes passes={whole.data.passes} />}
    </>
  );
}

/** The segments whose groups have to be seen for some cells, as many as a board can show. */
function openFor(cells: Schemas["ObjectScope"]["cells"]): string[] {
  const of = cells.flatMap((c) => [c.row, c.col]).filter((id) => id.includes("/"));
  return [...new Set(of.map((id) => id.split("/")[0] ?? ""))].slice(0, 4);
}

/** Where flows pass the pool: at each hub, from which segments to which. */
function Passes({ passes }: { passes: Schemas["ObjectScope"]["passes"] }) {
  const places = new Map<string, string[]>();
  for (const p of passes) {
    const at = `${p.pool} at ${p.hub}`;
    places.set(at, [...(places.get(at) ?? []), `${p.from || "the internet"} → ${p.to || "the internet"}`]);
  }
  return (
    <Part title="Where flows pass it">
      {places.size === 0 && <p className="text-soft">No flow passes it.</p>}
      {[...places].map(([at, between]) => (
        <div key={at} className="pb-1">
          <p className="font-semibold">{at}</p>
          {between.slice(0, 8).map((text) => (
            <p key={text}>{text}</p>
          ))}
          {between.length > 8 && <p className="text-soft">and {between.length - 8} more</p>}
        </div>
      ))}
    </Part>
  );
}

/** Whether an expectation holds now, as it is written; and a flow that breaks it, which can be asked about. */
function State({ state }: { state: Schemas["ExpectationState"] }) {
  const w = state.witness;
  const breaks = state.status === "breaks";
  return (
    <Part title="Now">
      <p className={breaks ? "font-semibold text-denied" : ""}>It {statusWords[state.status]}.</p>
      {w && (
        <p className="pt-0.5">
          <span className="text-soft">For example </span>
          <AskLink witness={w} />
        </p>
      )}
    </Part>
  );
}

/** What the internet gets by a publication, service by service. */
function FromTheInternet({ answer }: { answer: Schemas["Answer"] }) {
  return (
    <Part title="From the internet">
      <p className="flex items-start gap-2">
        <Marks marks={answer.marks} />
        <span>
          <Sentence tokens={answer.sentence} />
        </span>
      </p>
      <ul>
        {answer.lines.slice(0, 8).map((line, i) => (
          <li key={i} className="flex items-center gap-2 border-t border-line py-0.5">
            <Marks marks={line.parts.map((p) => p.verdict)} size={11} />
            <span className="min-w-0 truncate font-mono text-xs">{serviceWords(line.services)}</span>
          </li>
        ))}
      </ul>
    </Part>
  );
}

function AskLink({ witness: w }: { witness: Schemas["Witness"] }) {
  const { change } = useUrlState();
  return (
    <button
      className="text-left text-accent hover:underline"
      onClick={() => change({ from: w.from, to: w.to, on: w.on, row: null, col: null, at: null })}
    >
      {w.source} → {w.destination}, {w.on}
    </button>
  );
}

function Part({ title, children }: { title: ReactNode; children: ReactNode }) {
  return (
    <section className="pb-4">
      <h2 className="pb-1 font-semibold">{title}</h2>
      {children}
    </section>
  );
}

function Side({ side }: { side: Schemas["SideFacts"] }) {
  if (side.side === "members") {
    const g = side.groups[0];
    if (!g) return null;
    return (
      <Part title={counted(g.workloads, "member workload")}>
        <Some group={g} all={g.workloads} />
        <p className="pt-1 text-soft">Workloads that come later and match join by themselves.</p>
      </Part>
    );
  }
  return (
    <Part title={capital(side.side)}>
      {side.any && <p className="text-soft">any endpoint</p>}
      {!side.any && side.groups.length === 0 && <p className="text-soft">no groups yet</p>}
      {side.groups.map((g) => (
        <div key={g.name} className="pb-1.5">
          <p>
            <ThingLink plain thing={{ kind: "group", name: g.name }} />{" "}
            <span className="text-soft">
              {g.external && g.workloads === 0 ? "external" : `${counted(g.inside, "workload")} in scope`}
              {g.workloads > g.inside && `, ${g.workloads - g.inside} elsewhere`}
            </span>
          </p>
          <p className="font-mono text-xs text-soft">{g.hint}</p>
          <Some group={g} all={g.workloads} />
        </div>
      ))}
    </Part>
  );
}

function Some({ group, all }: { group: Schemas["GroupFacts"]; all: number }) {
  if (group.some.length === 0) return null;
  return (
    <p className="leading-snug">
      {group.some.map((w, i) => (
        <span key={w}>
          {i > 0 && ", "}
          <ThingLink plain thing={{ kind: "workload", name: w }} />
        </span>
      ))}
      {all > group.some.length && <span className="text-soft"> and {all - group.some.length} more</span>}
    </p>
  );
}

const relationTitles = {
  more: "Overridden by (more specific)",
  same: "Same sides",
  less: "Overrides (less specific)",
} as const;

/** The policies whose sides overlap, from the most specific down, this one between them. */
function Relations({ list, name }: { list: Schemas["Relation"][]; name: string }) {
  const part = (is: Schemas["Relation"]["is"]) => {
    const some = list.filter((r) => r.is === is);
    if (some.length === 0) return null;
    return (
      <div className="pb-1">
        <p className="text-xs text-soft">{relationTitles[is]}</p>
        <ul>
          {some.slice(0, 10).map((r) => (
            <li key={r.policy} className="truncate pl-2" title={`${r.from} → ${r.to}`}>
              <PolicyLink name={r.policy} />{" "}
              <span className="text-soft">
                {r.from} → {r.to}
              </span>
            </li>
          ))}
          {some.length > 10 && <li className="pl-2 text-soft">and {some.length - 10} more</li>}
        </ul>
      </div>
    );
  };
  return (
    <Part title="Which policy wins">
      <div aria-label="Which policy wins">
        {part("more")}
        {part("same")}
        <p className="border-l-[3px] border-accent pl-2 font-semibold">{name}</p>
        {part("less")}
      </div>
    </Part>
  );
}

function PolicyLink({ name }: { name: string }) {
  const { search } = useLocation();
  return (
    <Link className="hover:text-accent hover:underline" to={{ pathname: addressOf("policy", name), search }}>
      {name}
    </Link>
  );
}

function Nesting({ about, name }: { about: Schemas["About"]; name: string }) {
  const up = [...about.within].reverse();
  const link = (group: string, depth: number) => (
    <li key={group} style={{ paddingLeft: `${depth * 0.9}rem` }}>
      <ThingLink plain thing={{ kind: "group", name: group }} />
    </li>
  );
  return (
    <Part title="Nesting">
      <ul aria-label="Nesting">
        {up.map((g, i) => link(g, i))}
        <li className="font-semibold" style={{ paddingLeft: `${up.length * 0.9}rem` }}>
          {name}
        </li>
        {about.nested.slice(0, 20).map((g) => link(g, up.length + 1))}
        {about.nested.length > 20 && <li className="text-soft">and {about.nested.length - 20} more</li>}
      </ul>
    </Part>
  );
}

function Problems({ kind, name }: { kind: RuleKind; name: string }) {
  const sheet = useQuery(sheetQuery(kind, name));
  const issues = sheet.data?.issues ?? [];
  if (issues.length === 0) return null;
  return (
    <Part title={counted(issues.length, "problem")}>
      <ul>
        {issues.slice(0, 8).map((x, i) => (
          <li key={i} className="border-t border-line py-1">
            <span className="text-soft">{x.code}</span> {capital(x.message)}
          </li>
        ))}
      </ul>
    </Part>
  );
}

/** What each firewall's failure would do, in a few words. */
function IfAFirewallFails({ pool }: { pool: string }) {
  const { search } = useLocation();
  const failures = useQuery(failuresQuery(`pool:${pool}`));
  const params = new URLSearchParams(search);
  params.set("of", `pool:${pool}`);
  if (!failures.data || failures.data.looked === 0) return null;
  return (
    <Part title="If one of its firewalls fails">
      {failures.data.list.map((f) => (
        <p key={f.thing.name}>
          <span className="font-semibold">{f.thing.name}</span>:{" "}
          {counted(f.turns.length + f.more, "set of flows changes", "sets of flows change")}
          {f.breaks.length > 0 && (
            <span className="text-denied">, breaks {counted(f.breaks.length, "expectation")}</span>
          )}
        </p>
      ))}
      {failures.data.quiet > 0 && (
        <p className="text-soft">
          {failures.data.list.length === 0
            ? "No flow that passes changes."
            : `Of ${counted(failures.data.quiet, "other")}, no flow that passes changes.`}
        </p>
      )}
      {failures.data.list.length > 0 && (
        <Link to={`/findings/failures?${params}`} className="text-accent hover:underline">
          Show the flows
        </Link>
      )}
    </Part>
  );
}
