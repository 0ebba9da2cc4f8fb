import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { ChevronRight } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { Link, useLocation } from "react-router";
import type { Schemas } from "../../api/client";
import { type IssueFilter, issuesQuery, moreIssuesQuery, roadQuery } from "../../api/queries";
import { useTypedUrlState, useUrlState } from "../../frame/urlState";
import { Consequence } from "../../parts/Consequence";
import { Choice } from "../../parts/fields";
import { ThingLink } from "../../parts/ThingLink";
import { useDebounced } from "../../parts/useDebounced";
import { capital, counted, serviceWords } from "../../parts/wording";
import { Road } from "../../road/Road";
import { Fixes, Suggestions } from "../../road/Suggestions";
import { OutsideList } from "./OutsideList";
import { kindOf, severities } from "./kinds";
import { Repair } from "./Repair";

/** What wants to be looked at: faults, and what is legal and probably wrong. */
export function FindingsPlace() {
  const { search } = useLocation();
  const { params, change } = useUrlState();
  const asked = params.get("finding");
  const wanted = filterOf(params);
  const filter = { ...wanted, find: useDebounced(wanted.find, 200) };
  const [named, setNamed] = useState(asked); // by the address, when the place was opened
  const issues = useQuery(issuesQuery(filter, named));
  const [picked, setPicked] = useState<Schemas["Issue"] | null>(null);
  if (issues.error) return <p className="p-7 text-denied">{issues.error.message}</p>;
  if (!issues.data) return <p className="p-7 text-soft">Checking every flow…</p>;
  const { kinds, faults, findings, revision, counting } = issues.data;
  const listed = kinds.flatMap((k) => k.list);
  const found = [picked, issues.data.asked, ...listed].find((x) => x?.key === asked);
  const selected = found ?? listed[0];
  const select = (x: Schemas["Issue"]) => {
    setPicked(x);
    if (!listed.includes(x)) setNamed(x.key); // it is asked for again when the estate has changed
    change({ finding: x.key });
  };
  return (
    <div className="relative flex h-full">
      <section aria-label="Findings" className="flex min-w-0 flex-1 flex-col">
        <Filters page={issues.data} filter={wanted} onChange={change} />
        <div className="min-h-0 flex-1 overflow-y-auto px-5 pb-6">
          <p className="pt-2 text-[13px] text-soft">
            {faults === 0
              ? "No faults: the estate can be applied."
              : `${counted(faults, "fault")} to fix before the estate can be applied.`}{" "}
            {findings > 0 && `${counted(findings, "finding")}: permitted, but probably unintended.`}{" "}
            {counting && <span role="status">The estate was edited; checking its flows again…</span>}{" "}
            <Link to={{ pathname: "/findings/failures", search }} className="text-accent underline">
              What if one thing fails
            </Link>
          </p>
          <OutsideList />
          {asked && !found && !issues.isPlaceholderData && (
            <p role="status" className="pt-2 text-[13px]">
              This problem no longer exists: it was fixed, or it has changed.
            </p>
          )}
          {kinds.length === 0 && faults + findings > 0 && (
            <p role="status" className="pt-3">
              Nothing matches these filters.{" "}
              <button
                className="text-accent hover:underline"
                onClick={() => change({ severity: null, segment: null, owner: null, find: null })}
              >
                Clear filters
              </button>
            </p>
          )}
          {kinds.map((kind) => (
            <KindList key={kind.code} kind={kind} filter={filter} selected={selected} onSelect={select} />
          ))}
        </div>
      </section>
      {selected && <Detail issue={selected} kind={kindOfIssue(kinds, selected)} revision={revision} />}
    </div>
  );
}

function filterOf(params: URLSearchParams): IssueFilter {
  const severity = severities.find(([code]) => code === params.get("severity"));
  return {
    severity: severity?.[0] ?? "",
    segment: params.get("segment") ?? "",
    owner: params.get("owner") ?? "",
    find: params.get("find") ?? "",
  };
}

interface FiltersProps {
  page: Schemas["Issues"];
  filter: IssueFilter;
  onChange: (changes: Record<string, string | null>, replace?: boolean) => void;
}

/** What is listed: by severity, by segment, by words of the message. */
function Filters({ page, filter, onChange }: FiltersProps) {
  const [typed, setTyped] = useTypedUrlState("find");
  const count = (name: string) => page.severities.find((s) => s.name === name)?.count ?? 0;
  const all = page.severities.reduce((sum, s) => sum + s.count, 0);
  const segments = page.segments.map((s) => [s.name, `${s.name} (${s.count})`] as const);
  const owners = page.owners.map((o) => [o.name, `${o.name} (${o.count})`] as const);
  return (
    <div className="flex flex-none flex-wrap items-center gap-2 border-b border-line px-5 py-2 text-[13px]">
      <div role="group" aria-label="Severity" className="flex overflow-hidden rounded border border-line">
        {[["", "All"] as const, ...severities].map(([code, title]) => (
          <button
            key={code}
            aria-pressed={filter.severity === code}
            onClick={() => onChange({ severity: code })}
            className="border-l border-line px-2.5 py-0.5 first:border-l-0 hover:bg-wash aria-pressed:bg-wash aria-pressed:font-semibold"
          >
            {title} <span className="text-soft">{code === "" ? all : count(code)}</span>
          </button>
        ))}
      </div>
      <Choice
        label="Segment"
        value={filter.segment}
        options={[["", "all segments"], ...segments]}
        onChange={(segment) => onChange({ segment })}
      />
      {owners.length > 0 && (
        <Choice
          label="Owner"
          value={filter.owner}
          options={[["", "all owners"], ...owners]}
          onChange={(owner) => onChange({ owner })}
        />
      )}
      <input
        type="search"
        aria-label="Filter by text"
        placeholder="filter by text"
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        className="w-40 rounded border border-line bg-paper px-2 py-0.5"
      />
    </div>
  );
}

const kindOfIssue = (kinds: Schemas["IssueKind"][], x: Schemas["Issue"]) =>
  kinds.some((k) => k.code === x.code) ? x.code : "fault";

interface KindListProps {
  kind: Schemas["IssueKind"];
  filter: IssueFilter;
  selected: Schemas["Issue"] | undefined;
  onSelect: (x: Schemas["Issue"]) => void;
}

/** How many of a kind are listed without being asked for. */
const mostOpen = 50;

function KindList({ kind, filter, selected, onSelect }: KindListProps) {
  const [wanted, setWanted] = useState(false);
  const [toggled, setToggled] = useState<boolean | null>(null);
  const more = useInfiniteQuery(moreIssuesQuery(filter, kind.code, kind.list.length, wanted));
  const shown = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    shown.current?.scrollIntoView({ block: "nearest" });
  }, [selected?.key]);
  const list = [...kind.list, ...(more.data?.pages.flat() ?? [])];
  const { title, why } = kindOf(kind.code);
  if (selected && kindOfIssue([kind], selected) === kind.code && !list.some((x) => x.key === selected.key))
    list.push(selected); // an address named it
  const hidden = Math.max(0, kind.count - list.length);
  const open = toggled ?? (kind.count <= mostOpen || list.some((x) => x.key === selected?.key));
  return (
    <section className="pt-3">
      <h2 className="border-b border-line pb-1">
        <button
          aria-expanded={open}
          onClick={() => setToggled(!open)}
          className="flex w-full items-baseline gap-2 text-left"
        >
          <ChevronRight
            aria-hidden
            className={`size-3.5 flex-none self-center text-soft ${open ? "rotate-90" : ""}`}
          />
          <span className="font-serif text-[16px] font-semibold">{title}</span>
          <span className="text-xs text-soft">{kind.count.toLocaleString("en")}</span>
          <SeverityMark severity={kind.severity} />
          <span className="min-w-0 flex-1 truncate text-right text-xs text-soft">{why}</span>
        </button>
      </h2>
      <ul hidden={!open} className="pl-[22px]">
        {list.map((x) => (
          <li key={x.key}>
            <button
              ref={x.key === selected?.key ? shown : undefined}
              aria-pressed={x.key === selected?.key}
              onClick={() => onSelect(x)}
              className="-mx-2 flex w-[calc(100%+1rem)] items-baseline gap-3 rounded px-2 py-1 text-left hover:bg-wash aria-pressed:bg-wash"
            >
              <span className="min-w-0 flex-1">{capital(x.message)}</span>
              {x.services && (
                <span className="max-w-[14rem] flex-none truncate font-mono text-xs text-soft">
                  {serviceWords(x.services)}
                </span>
              )}
            </button>
          </li>
        ))}
      </ul>
      {open && hidden > 0 && (
        <button
          disabled={more.isFetching}
          className="py-1 text-[13px] text-accent hover:underline"
          onClick={() => (wanted ? void more.fetchNextPage() : setWanted(true))}
        >
          Show more, of {hidden.toLocaleString("en")}
        </button>
      )}
      {more.error && <p className="text-[13px] text-denied">{more.error.message}</p>}
    </section>
  );
}

/** How much a kind of issues matters, in a word. */
function SeverityMark({ severity }: { severity: Schemas["IssueKind"]["severity"] }) {
  const strong = severity === "fault" || severity === "high";
  return (
    <span className={`text-xs ${strong ? "text-denied" : "text-soft"}`}>
      {severity === "fault" ? "" : severity}
    </span>
  );
}

interface DetailProps {
  issue: Schemas["Issue"];
  kind: string;
  revision: number;
}

function Detail({ issue, kind, revision }: DetailProps) {
  const fix = issue.fix || kindOf(kind).fix;
  return (
    <aside
      aria-label="Finding"
      className="h-full w-[430px] flex-none overflow-y-auto border-l border-line bg-sheet px-5 pt-3 2xl:w-[540px]"
    >
      <h2 className="font-serif text-[17px] leading-snug font-semibold">{capital(issue.message)}</h2>
      {fix && (
        <p className="pt-1.5">
          <span className="text-soft">How to fix it: </span>
          {fix}
        </p>
      )}
      {issue.path && <p className="pt-1 font-mono text-xs text-soft">{issue.path}</p>}
      {issue.refs.length > 0 && (
        <ul className="flex flex-wrap gap-1.5 pt-2.5">
          {issue.refs.map((r) => (
            <li key={r.kind + r.name}>
              <ThingLink thing={r} />
            </li>
          ))}
        </ul>
      )}
      {issue.aside && <Repair key={issue.aside.id} aside={issue.aside} revision={revision} />}
      {issue.remedies.length > 0 && <Remedies key={issue.key} remedies={issue.remedies} />}
      {kind !== "fault" && (
        <div className="-mx-5 pt-3">
          <Fixes finding={issue.key} />
        </div>
      )}
      {issue.witness && <WitnessRoad witness={issue.witness} />}
    </aside>
  );
}

/** Edits that would mend it: one is looked at, with what it changes, before it is made. */
function Remedies({ remedies }: { remedies: Schemas["Remedy"][] }) {
  const [picked, setPicked] = useState<Schemas["Remedy"] | null>(null);
  return (
    <section aria-label="Fixes" className="pt-3">
      {remedies.map((w) => (
        <button
          key={w.words}
          aria-pressed={w === picked}
          onClick={() => setPicked(w === picked ? null : w)}
          className="mt-1.5 block rounded border border-accent px-2 py-0.5 text-left text-[13px] text-accent hover:bg-accent/10 aria-pressed:bg-accent/10"
        >
          {w.words}
        </button>
      ))}
      {picked && (
        <Consequence edit={{ wiring: picked.edits }} verb="Apply fix" onDone={() => setPicked(null)} />
      )}
    </section>
  );
}

function WitnessRoad({ witness }: { witness: Schemas["Witness"] }) {
  const road = useQuery(roadQuery(witness));
  if (road.error) return <p className="py-3 text-denied">{road.error.message}</p>;
  if (!road.data) return null;
  return (
    <div className="-mx-5">
      <p className="px-5 pt-4 text-xs text-soft">Example flow</p>
      <Road trace={road.data.trace} sentence={road.data.sentence} />
      <Suggestions key={JSON.stringify(witness)} asked={witness} trace={road.data.trace} />
    </div>
  );
}
