import { useMemo, useState } from "react";
import { useUrlState } from "../../frame/urlState";
import { Combobox } from "../../parts/Combobox";
import { Consequence } from "../../parts/Consequence";
import { counted } from "../../parts/wording";
import { Choose } from "./Choose";
import { kinds } from "./kinds";
import type { Rules } from "./kinds";
import { fits, narrowingOf, rowsOf } from "./rows";
import type { Known } from "./rows";
import { changedBy } from "./several";
import type { Change } from "./several";

const changes = ["switch off", "switch on", "replace a group", "add a service"] as const;
type What = (typeof changes)[number];

/** One change of several objects, as one edit: of those that the list shows. */
export function SeveralAtOnce({ rules }: { rules: Rules }) {
  const { params, change: goTo } = useUrlState();
  const narrowing = narrowingOf(params);
  // In the address, so that it outlives the beginning of a draft, and can be handed on.
  const what = changes.find((c) => c === params.get("change"));
  const first = params.get("first") ?? "";
  const second = params.get("second") ?? "";
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set());
  const rows = useMemo(() => rowsOf(rules), [rules]);
  const change = changeOf(what, first.trim(), second.trim());
  const able = (change ? rows : [])
    .filter((r) => fits(r, narrowing))
    .flatMap((row) => {
      const next = change && changedBy(row.kind, row.object, change);
      return next ? [{ row, next }] : [];
    });
  const chosen = able.filter(({ row }) => !left.has(keyOf(row)));
  const edit = {
    operations: chosen.map(({ row, next }) => ({ op: "put" as const, kind: row.kind, object: next })),
  };
  const choose = (next: string) => {
    goTo({ change: next, first: null, second: null }, true);
    setLeft(new Set());
  };
  const two = what === "replace a group" || what === "add a service";
  return (
    <section aria-label="Change several at once" className="min-w-0 flex-1 overflow-y-auto p-7">
      <h1 className="font-serif text-[22px] font-semibold">Change several at once</h1>
      <p className="mt-1 max-w-prose text-soft">
        Makes the same change to every object in the list on the left; narrow the list first. It becomes one
        step of a draft.
      </p>
      <div className="mt-4 flex flex-wrap items-center gap-2">
        <Choose
          label="Change"
          bold
          value={what ?? ""}
          placeholder="choose a change"
          values={[...changes]}
          onChange={choose}
        />
        {what === "add a service" && <span className="text-soft">wherever there is</span>}
        {two && (
          <Name
            key={what + " first"}
            label={what === "replace a group" ? "Group to replace" : "Beside service"}
            placeholder={what === "replace a group" ? "group" : "service"}
            names={namesIn(rules, what, false)}
            value={first}
            onChange={(v) => goTo({ first: v || null }, true)}
          />
        )}
        {two && <span className="text-soft">{what === "replace a group" ? "by" : "add"}</span>}
        {two && (
          <Name
            key={what + " second"}
            label={what === "replace a group" ? "Replacement" : "Service to add"}
            placeholder={what === "replace a group" ? "group" : "service, tcp/443"}
            names={namesIn(rules, what, true)}
            value={second}
            onChange={(v) => goTo({ second: v || null }, true)}
          />
        )}
      </div>
      {able.length === 0 ? (
        <p className="mt-5 text-soft">
          {!what
            ? "Choose a change: its effect is shown before anything is saved."
            : two && (first === "" || second === "")
              ? "Fill in both names."
              : "No object in the list would change."}
        </p>
      ) : (
        <Chosen
          able={able.map(({ row }) => row)}
          left={left}
          onLeave={(key, leave) => {
            const next = new Set(left);
            if (leave) next.add(key);
            else next.delete(key);
            setLeft(next);
          }}
        />
      )}
      <div className="max-w-3xl pt-3">
        <Consequence
          key={what}
          edit={edit}
          verb={`Change ${counted(chosen.length, "object")}`}
          onDone={() => setLeft(new Set())}
        />
      </div>
    </section>
  );
}

const keyOf = (row: Known) => `${row.kind} ${row.name}`;

function changeOf(what: What | undefined, first: string, second: string): Change | null {
  switch (what) {
    case "switch off":
      return { what: "switch", on: false };
    case "switch on":
      return { what: "switch", on: true };
    case "replace a group":
      return { what: "group", from: first, to: second };
    case "add a service":
      return { what: "service", beside: first, add: second };
    case undefined:
      return null;
  }
}

/** The names that a field proposes: the first field those that are in use, the second all. */
function namesIn(rules: Rules, what: What, all: boolean): string[] {
  const group = what === "replace a group";
  const named: string[] = (group ? rules.groups : rules.services).map((o) => o.name);
  if (all) return named;
  const start = group ? "group " : "service ";
  const used = rowsOf(rules).flatMap((r) => [...r.refers].filter((n) => n.startsWith(start)));
  return [...new Set(used.map((n) => n.slice(start.length)))].sort();
}

interface NameProps {
  label: string;
  placeholder: string;
  names: string[];
  value: string;
  onChange: (value: string) => void;
}

function Name({ label, placeholder, names, value, onChange }: NameProps) {
  const text = value.trim().toLowerCase();
  const choices = text === "" ? [] : names.filter((n) => n.includes(text)).slice(0, proposed);
  return (
    <Combobox
      id={`several-${label.replaceAll(" ", "-")}`}
      label={label}
      placeholder={placeholder}
      value={value}
      choices={choices.map((n) => ({ text: n, kind: "", hint: "" }))}
      className="w-52 rounded border border-line bg-sheet px-2 py-0.5 focus-within:border-accent"
      onType={onChange}
      onCommit={onChange}
    />
  );
}

/** How many names are proposed. */
const proposed = 12;

interface ChosenProps {
  able: Known[];
  left: ReadonlySet<string>;
  onLeave: (key: string, leave: boolean) => void;
}

/** How many objects are listed one by one. */
const listed = 200;

function Chosen({ able, left, onLeave }: ChosenProps) {
  return (
    <>
      <p className="mt-5 text-soft">{counted(able.length, "object")} would change</p>
      <ul aria-label="What would change" className="mt-1 max-w-3xl border-t border-line">
        {able.slice(0, listed).map((row) => {
          const key = keyOf(row);
          return (
            <li key={key} className="border-b border-line/60">
              <label className="flex items-baseline gap-3 py-1.5">
                <input
                  type="checkbox"
                  checked={!left.has(key)}
                  onChange={(event) => onLeave(key, !event.target.checked)}
                />
                <span className="flex-none">
                  <span className="text-soft">{kinds[row.kind].one} </span>
                  <span className="font-semibold">{row.name}</span>
                </span>
                <span className="min-w-0 truncate text-[13px] text-soft">{row.words}</span>
              </label>
            </li>
          );
        })}
      </ul>
      {able.length > listed && (
        <p className="text-[13px] text-soft">
          and {counted(able.length - listed, "object")} more, which change as well
        </p>
      )}
    </>
  );
}
