import { useQuery } from "@tanstack/react-query";
import { ArrowDown, ArrowUp, Plus, X } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { ApiProblem } from "../../api/client";
import type { Schemas } from "../../api/client";
import { tagsQuery, tagsTryQuery } from "../../api/queries";
import type { EstateEdit } from "../../api/queries";
import { useWhere } from "../../frame/where";
import { Consequence } from "../../parts/Consequence";
import { Button, Label } from "../../parts/fields";
import { useDebounced } from "../../parts/useDebounced";
import { counted, grouped } from "../../parts/wording";

type Mapping = Schemas["MappingRule"];

/** Tags that teams wrote, on their way to labels that rules can use. */
export function LabelsPlace() {
  const tags = useQuery(tagsQuery);
  if (tags.error) return <p className="p-7 text-denied">{tags.error.message}</p>;
  if (!tags.data) return null;
  return <Editor key={JSON.stringify(tags.data.rules)} saved={tags.data} />;
}

/** The edit that makes some rules the mapping: the first of those that there are, or a new one. */
function editOf(saved: Schemas["Tagged"], rules: Mapping[]): EstateEdit {
  const [first = { name: "tags", base: "absent" }, ...others] = saved.mappings;
  return {
    operations: [
      {
        op: "put",
        kind: "mapping",
        object: { name: first.name, rules: rules.map(written) },
        base: first.base,
      },
      ...others.map((m) => ({ op: "delete" as const, kind: "mapping" as const, ...m })),
    ],
  };
}

/** A rule as it is stored: without what is left open. */
const written = (rule: Mapping) =>
  Object.fromEntries(Object.entries(rule).filter(([, value]) => value !== ""));

function Editor({ saved }: { saved: Schemas["Tagged"] }) {
  const [rules, setRules] = useState<Mapping[]>(saved.rules);
  const looksBack = useWhere().kind === "revision";
  const changed = JSON.stringify(rules) !== JSON.stringify(saved.rules);
  const tried = useQuery(tagsTryQuery(useDebounced(rules, 150), changed));
  const problem = changed && tried.error instanceof ApiProblem ? tried.error : null;
  const shown = changed ? (tried.data ?? saved) : saved;
  const set = (i: number, part: Partial<Mapping>) =>
    setRules(rules.map((r, k) => (k === i ? { ...r, ...part } : r)));
  const move = (i: number, by: number) => {
    const next = [...rules];
    const [one] = next.splice(i, 1);
    if (one) next.splice(i + by, 0, one);
    setRules(next);
  };
  return (
    <section aria-label="Labels" className="flex h-full flex-col">
      <div className="flex items-center gap-4 px-5 pt-3 pb-2 text-[13px]">
        <Link to="/estate" className="text-accent hover:underline">
          Estate
        </Link>
        <p className="flex-1 text-soft">
          Rules are tried in order; the first that matches a tag sets the label. Case, blanks and underscores
          do not matter; * stands for anything, | for or.
        </p>
      </div>
      <div className="grid min-h-0 flex-1 grid-cols-[minmax(44rem,3fr)_minmax(22rem,2fr)] max-[1100px]:block max-[1100px]:overflow-auto">
        <div className="min-h-0 overflow-y-auto px-5 pb-6">
          <RuleTable
            rules={rules}
            counts={shown.counts}
            problemAt={(i, field) => problem?.at(`rules[${i}].${field}`)?.message}
            onChange={set}
            onMove={move}
            onDrop={(i) => setRules(rules.filter((_, k) => k !== i))}
          />
          <button
            className="flex items-center gap-1 py-2 text-[13px] text-accent hover:underline"
            onClick={() => setRules([...rules, { key: "", label: "" }])}
          >
            <Plus size={14} /> Add a rule
          </button>
          <Tags
            tags={shown.tags}
            onMap={(tag) =>
              setRules([...rules, { key: tag.key.toLowerCase(), label: tag.key.toLowerCase() }])
            }
          />
        </div>
        <Preview shown={shown} waiting={tried.isFetching} />
      </div>
      <div
        className="flex items-center gap-4 border-t-2 border-accent bg-sheet px-5 py-2.5"
        data-testid="mapping"
      >
        <p className="min-w-0 flex-1 font-serif text-[16px]" aria-live="polite">
          {problem ? (
            <span>
              This cannot be saved yet: {problem.problem.problems?.map((p) => p.message).join("; ")}
            </span>
          ) : (
            <Standing shown={shown} changed={changed} />
          )}
        </p>
        <Button disabled={!changed} onClick={() => setRules(saved.rules)}>
          Discard
        </Button>
      </div>
      {changed && !problem && !looksBack && (
        <div className="max-h-[40%] shrink-0 overflow-y-auto bg-sheet px-5">
          <Consequence edit={editOf(saved, rules)} verb="Save mapping" pinned onDone={() => undefined} />
        </div>
      )}
    </section>
  );
}

function Standing({ shown, changed }: { shown: Schemas["Tagged"]; changed: boolean }) {
  if (shown.workloads === 0) return <span className="text-soft">No account has been synced yet.</span>;
  return (
    <span>
      {shown.unlabelled === 0 ? (
        <strong>Every workload has a label</strong>
      ) : (
        <strong>{counted(shown.unlabelled, "workload has no label", "workloads have no label")}</strong>
      )}
      <span className="text-soft">
        {" "}
        of {grouped(shown.workloads)} that were read
        {changed && `; the labels of ${grouped(shown.changed)} would change`}
      </span>
    </span>
  );
}

interface TableProps {
  rules: Mapping[];
  counts: number[];
  problemAt: (rule: number, field: string) => string | undefined;
  onChange: (rule: number, part: Partial<Mapping>) => void;
  onMove: (rule: number, by: number) => void;
  onDrop: (rule: number) => void;
}

const fields: { field: keyof Mapping; head: string; hint: string; width: string }[] = [
  { field: "provider", head: "provider", hint: "any", width: "5.2rem" },
  { field: "account", head: "account", hint: "any", width: "5.6rem" },
  { field: "key", head: "tag", hint: "env|stage", width: "13rem" },
  { field: "value", head: "with value", hint: "any", width: "9.5rem" },
  { field: "label", head: "label", hint: "env", width: "4.6rem" },
  { field: "to", head: "value", hint: "same", width: "5rem" },
];

function RuleTable({ rules, counts, problemAt, onChange, onMove, onDrop }: TableProps) {
  return (
    <table className="w-full text-[13px]">
      <thead>
        <tr className="text-left text-xs text-soft">
          <th className="w-6 font-normal">#</th>
          {fields.map((f) => (
            <th key={f.field} className="pb-1 font-normal" style={{ width: f.width }}>
              {f.head}
            </th>
          ))}
          <th className="text-right font-normal">objects</th>
          <th className="w-20" />
        </tr>
      </thead>
      <tbody>
        {rules.map((r, i) => (
          <tr key={i} className="border-t border-line">
            <td className="text-soft">{i + 1}</td>
            {fields.map((f) => (
              <td key={f.field} className="py-0.5 pr-1">
                <input
                  aria-label={`Rule ${i + 1} ${f.head === "value" ? "label value" : f.head}`}
                  aria-invalid={problemAt(i, f.field) !== undefined}
                  title={problemAt(i, f.field) ?? r[f.field]}
                  placeholder={f.hint}
                  value={r[f.field] ?? ""}
                  onChange={(e) => onChange(i, { [f.field]: e.target.value })}
                  className="w-full rounded border border-transparent bg-transparent px-1 py-0.5 font-mono text-[12.5px] placeholder:text-soft/70 hover:border-line focus:border-accent focus:bg-sheet aria-invalid:border-denied"
                />
              </td>
            ))}
            <td className="text-right text-soft">{grouped(counts[i] ?? 0)}</td>
            <td className="text-soft">
              <span className="flex justify-end">
                <button
                  aria-label={`Rule ${i + 1} up`}
                  disabled={i === 0}
                  onClick={() => onMove(i, -1)}
                  className="flex size-6 items-center justify-center hover:text-ink disabled:opacity-30"
                >
                  <ArrowUp size={13} />
                </button>
                <button
                  aria-label={`Rule ${i + 1} down`}
                  disabled={i === rules.length - 1}
                  onClick={() => onMove(i, 1)}
                  className="flex size-6 items-center justify-center hover:text-ink disabled:opacity-30"
                >
                  <ArrowDown size={13} />
                </button>
                <button
                  aria-label={`Remove rule ${i + 1}`}
                  onClick={() => onDrop(i)}
                  className="flex size-6 items-center justify-center hover:text-denied"
                >
                  <X size={13} />
                </button>
              </span>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** How many tags are listed before the rest is counted. */
const tagsShown = 120;

function Tags({ tags, onMap }: { tags: Schemas["TagUse"][]; onMap: (tag: Schemas["TagUse"]) => void }) {
  const unmapped = tags.filter((t) => t.rule < 0);
  return (
    <section className="pt-4" aria-label="Tags">
      <h2 className="border-b border-line pb-1 font-serif text-[16px] font-semibold">
        Tags that teams wrote{" "}
        <span className="text-[13px] font-normal text-soft">
          {unmapped.length === 0 ? "all are mapped" : `${unmapped.length} without a rule come first`}
        </span>
      </h2>
      <ul className="text-[13px]">
        {tags.slice(0, tagsShown).map((t) => (
          <li key={`${t.key}\n${t.value}`} className="flex items-center gap-3 border-b border-line/60 py-0.5">
            <span className="w-10 text-right text-xs text-soft">{grouped(t.count)}</span>
            <span className="w-72 truncate font-mono">
              <span className="text-soft">{t.key}:</span> {t.value}
            </span>
            {t.rule >= 0 ? (
              <>
                <span className="text-soft">→</span>
                <span className="font-mono">{t.label}</span>
                <span className="text-xs text-soft">rule {t.rule + 1}</span>
              </>
            ) : (
              <button className="text-accent hover:underline" onClick={() => onMap(t)}>
                Map {t.key}
              </button>
            )}
          </li>
        ))}
        {tags.length > tagsShown && (
          <li className="py-1 text-soft">and {counted(tags.length - tagsShown, "more tag", "more tags")}</li>
        )}
      </ul>
    </section>
  );
}

function Preview({ shown, waiting }: { shown: Schemas["Tagged"]; waiting: boolean }) {
  return (
    <section
      aria-label="Preview"
      data-waiting={waiting}
      className="min-h-0 overflow-y-auto border-l border-line bg-sheet px-5 pt-1 pb-6"
    >
      <h2 className="font-serif text-[16px] font-semibold">Workloads and their labels</h2>
      <ul className="text-[13px]">
        {shown.rows.map((row) => (
          <li key={row.name} className="border-t border-line py-1" data-workload={row.name}>
            <span className="flex items-baseline gap-2">
              <Link to={`/estate?thing=workload:${row.name}`} className="font-semibold hover:text-accent">
                {row.name}
              </Link>
              <span className="text-xs text-soft">{row.account}</span>
              <span className="flex-1" />
              {Object.keys(row.labels).length === 0 && <span className="text-denied">no label</span>}
            </span>
            <span className="flex flex-wrap gap-1 py-0.5">
              {Object.entries(row.labels).map(([k, v]) => (
                <Label key={k} name={k} value={v} hand={k in row.hand} />
              ))}
            </span>
            {row.conflicts.map((c) => (
              <span key={c.label} className="block text-denied">
                {c.label}: rule {c.by + 1} gives {c.value}, rule {c.beside + 1} for another tag gives{" "}
                {c.other}; the earlier rule applies
              </span>
            ))}
            {row.unmapped.length > 0 && (
              <span className="block text-xs text-soft">
                not mapped: {row.unmapped.map((k) => `${k}: ${row.tags[k] ?? ""}`).join(", ")}
              </span>
            )}
          </li>
        ))}
        {shown.more > 0 && (
          <li className="py-1 text-soft">and {grouped(shown.more)} more, without problems</li>
        )}
      </ul>
    </section>
  );
}
