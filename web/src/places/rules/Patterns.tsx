import { useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { useUrlState } from "../../frame/urlState";
import type { Choice } from "../../parts/Combobox";
import { Consequence } from "../../parts/Consequence";
import { Choose } from "./Choose";
import { groupChoices, segmentChoices, serviceChoices, TextField } from "./editors/parts";
import type { Rules } from "./kinds";
import { isComplete, patterns } from "./patterns";
import type { Pattern, PatternField, Values } from "./patterns";
import { TokenField } from "./TokenField";
import { nameIn, WhatIsWritten } from "./WhatIsWritten";

/** The usual tasks: each a sentence with choices that ends in an edit, which is read before it is made. */
export function Patterns({ rules }: { rules: Rules }) {
  const { params, change } = useUrlState();
  const chosen = patterns.find((p) => p.key === params.get("pattern"));
  if (chosen) {
    return (
      <PatternForm
        key={chosen.key}
        pattern={chosen}
        rules={rules}
        onClose={() => change({ pattern: null })}
      />
    );
  }
  return (
    <section aria-label="Patterns" className="mt-8">
      <h2 className="font-serif text-[18px] font-semibold">Or start from a common task</h2>
      <ul className="mt-2 grid max-w-[56rem] grid-cols-2 gap-2">
        {patterns.map((p) => (
          <li key={p.key}>
            <button
              className="h-full w-full rounded-md border border-line bg-sheet px-3 py-2 text-left hover:border-accent"
              onClick={() => change({ pattern: p.key })}
            >
              <span className="block font-semibold">{p.title}</span>
              <span className="block text-[13px] text-soft">{p.says}</span>
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

interface FormProps {
  pattern: Pattern;
  rules: Rules;
  onClose: () => void;
}

function PatternForm({ pattern, rules, onClose }: FormProps) {
  const [values, setValues] = useState<Values>({});
  const navigate = useNavigate();
  const { search } = useLocation();
  const complete = isComplete(pattern, values);
  const edit = complete ? pattern.edit(values, rules) : {};
  const nothing = complete && !edit.operations?.length && !edit.wiring?.length;
  return (
    <section aria-label={pattern.title} className="mt-8 max-w-[60rem]">
      <div className="flex items-baseline gap-4">
        <h2 className="font-serif text-[18px] font-semibold">{pattern.title}</h2>
        <button className="text-[13px] text-accent hover:underline" onClick={onClose}>
          other tasks
        </button>
      </div>
      <p className="text-soft">{pattern.says}</p>
      <div className="mt-3 flex flex-wrap items-start gap-x-2.5 gap-y-2 font-serif text-[16px]">
        {pattern.sentence.map((word, i) => {
          const field = pattern.fields[word];
          return field ? (
            <FieldOf
              key={i}
              field={field}
              value={values[word] ?? []}
              rules={rules}
              onChange={(value) => setValues({ ...values, [word]: value })}
            />
          ) : (
            <span key={i} className="pt-0.5 text-soft italic">
              {word}
            </span>
          );
        })}
      </div>
      {!complete && (
        <p className="mt-4 text-[13px] text-soft">The consequence is shown once every choice is made.</p>
      )}
      {nothing && <p className="mt-4 text-[13px] text-soft">Nothing to change: this is already the case.</p>}
      {edit.operations && edit.operations.length > 0 && (
        <div className="mt-4">
          <WhatIsWritten label="What is written" operations={edit.operations} />
        </div>
      )}
      <Consequence
        edit={edit}
        verb="Apply"
        onDone={() => {
          const first = edit.operations?.findLast((o) => o.op === "put");
          onClose();
          if (first) {
            void navigate({
              pathname: `/rules/${first.kind}/${nameIn(first)}`,
              search: new URLSearchParams(search).get("from") ? search : "",
            });
          }
        }}
      />
    </section>
  );
}

const named = (list: { name: string }[]) => list.map((o) => o.name);

interface FieldProps {
  field: PatternField;
  value: string[];
  rules: Rules;
  onChange: (value: string[]) => void;
}

function FieldOf({ field, value, rules, onChange }: FieldProps) {
  const pick = (values: string[]) => (
    <Choose
      label={field.label}
      value={value[0] ?? ""}
      values={field.optional ? ["none", ...values] : values}
      placeholder={field.label}
      onChange={(v) => onChange(v === "none" ? [] : [v])}
    />
  );
  const tokens = (choices: Choice[], most?: number) => (
    <TokenField
      id={field.label}
      label={field.label}
      tokens={value}
      choices={choices}
      placeholder={field.label}
      problem={() => undefined}
      onChange={(next) => onChange(most ? next.slice(-most) : next)}
    />
  );
  switch (field.kind) {
    case "segment":
      return pick(named(rules.segments));
    case "pool":
      return pick(named(rules.pools));
    case "exit":
      return pick(named(rules.exits));
    case "segments":
      return tokens(segmentChoices(rules));
    case "exits":
      return tokens(rules.exits.map((x) => ({ text: x.name, hint: `at ${x.hub}`, kind: "exit" })));
    case "network":
      return tokens(
        rules.networks.map((n) => ({ text: n.name, hint: "", kind: "network" })),
        1,
      );
    case "group":
      return tokens(groupChoices(rules), 1);
    case "services":
      return tokens(serviceChoices(rules));
    case "text":
      return (
        <TextField
          label={field.label}
          value={value[0] ?? ""}
          placeholder={field.label}
          problem={undefined}
          onChange={(text) => onChange([text])}
        />
      );
  }
}
