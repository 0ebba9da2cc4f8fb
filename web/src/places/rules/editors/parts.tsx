import type { ReactNode } from "react";
import type { Schemas } from "../../../api/client";
import type { Choice } from "../../../parts/Combobox";
import { serviceText } from "../../../parts/wording";
import { groupWords } from "../kinds";
import type { Rules } from "../kinds";
import { TokenField } from "../TokenField";
import type { EditorProps, ProblemAt } from "./Editor";
import { groupOfPlace, placeChoices } from "./placeGroups";

/** A line of a sentence: a word, and what stands after it. */
export function Line({ word, children }: { word: string; children: ReactNode }) {
  return (
    <div className="flex items-start gap-2.5">
      <span className="w-36 flex-none pt-0.5 text-right text-soft italic">{word}</span>
      {children}
    </div>
  );
}

/** The lines of a sentence. */
export function Sentence({ children }: { children: ReactNode }) {
  return <div className="flex flex-col gap-3 font-serif text-[16px]">{children}</div>;
}

/** What is wrong at some fields that show nothing of it themselves. */
export function Problem({ at, problemAt }: { at: string[]; problemAt: ProblemAt }) {
  const problem = at.map(problemAt).find(Boolean);
  if (!problem) return null;
  return (
    <p role="alert" className="mt-1 font-sans text-[13px] text-denied">
      {problem.message}
      {problem.fix && <>; {problem.fix}</>}
    </p>
  );
}

const named = (kind: string, list: { name: string; description?: string }[]): Choice[] =>
  list.map((o) => ({ text: o.name, hint: o.description ?? "", kind }));

export const groupChoices = (rules: Rules): Choice[] =>
  rules.groups.map((g) => ({ text: g.name, hint: groupWords(g), kind: "group" }));

export const segmentChoices = (rules: Rules): Choice[] => named("segment", rules.segments);

export const serviceChoices = (rules: Rules): Choice[] => [
  ...rules.services.map((s) => ({
    text: s.name,
    hint: s.terms.map(serviceText).join(", "),
    kind: "service",
  })),
  { text: "any", hint: "every protocol and port", kind: "service" },
];

interface SideProps {
  id: string;
  label: string;
  value: Schemas["Side"];
  /** What the word "any" stands for here. */
  any: string;
  at: string;
  rules: Rules;
  problemAt: ProblemAt;
  onChange: (value: Schemas["Side"]) => void;
  onMake: EditorProps<unknown>["onMake"];
}

/** One side: groups, or any endpoint. A network, a subnet or a prefix stands for a group of it, made along. */
export function SideField({ id, label, value, any, at, rules, problemAt, onChange, onMake }: SideProps) {
  const known = new Set(rules.groups.map((g) => g.name));
  return (
    <TokenField
      id={id}
      label={label}
      tokens={typeof value === "string" ? [value] : value}
      choices={[...groupChoices(rules), { text: "any", hint: any, kind: "" }, ...placeChoices(rules)]}
      placeholder="group"
      problem={(i) => problemAt(`${at}[${i}]`) ?? (i === 0 ? problemAt(at) : undefined)}
      make={{
        noun: "group",
        unknown: (t) => t !== "any" && !known.has(t),
        onMake: (t) => onMake("group", t),
      }}
      onChange={(tokens) => {
        const groups = tokens.map((t) => {
          const place = groupOfPlace(rules, t);
          if (place?.fresh) onMake("group", place.group.name, place.group);
          return place?.group.name ?? t;
        });
        onChange(groups.at(-1) === "any" ? "any" : [...new Set(groups)].filter((t) => t !== "any"));
      }}
    />
  );
}

interface ServicesProps {
  id: string;
  label: string;
  value: Schemas["ServiceRef"][];
  at: string;
  rules: Rules;
  problemAt: ProblemAt;
  onChange: (value: Schemas["ServiceRef"][]) => void;
  onMake: EditorProps<unknown>["onMake"];
}

/** Services by name, or as they are: tcp/443. */
export function ServicesField({ id, label, value, at, rules, problemAt, onChange, onMake }: ServicesProps) {
  const known = new Set(rules.services.map((s) => s.name));
  return (
    <TokenField
      id={id}
      label={label}
      tokens={value.map(serviceText)}
      choices={serviceChoices(rules)}
      placeholder="service"
      problem={(i) => problemAt(`${at}[${i}]`)}
      make={{
        noun: "service",
        unknown: (t) => /^[a-z][a-z0-9.-]*$/.test(t) && t !== "any" && !known.has(t) && !isTerm(t),
        onMake: (t) => onMake("service", t),
      }}
      onChange={(tokens) => onChange(tokens.map((t) => value.find((s) => serviceText(s) === t) ?? t))}
    />
  );
}

const isTerm = (text: string) => /^(tcp|udp|icmp|icmpv6|proto)$/.test(text);

/** A text with the character marked at which it goes wrong. */
export function Slip({ text, character }: { text: string; character: number }) {
  const rest = text.slice(character - 1);
  return (
    <span aria-hidden data-slip className="pt-0.5 pl-2 font-mono text-[13px] whitespace-pre-wrap text-soft">
      {text.slice(0, character - 1)}
      <span className="text-denied underline decoration-wavy underline-offset-4">
        {rest || "\u00a0\u00a0"}
      </span>
    </span>
  );
}

/** A short text in a sentence. */
export function TextField({
  label,
  value,
  placeholder,
  problem,
  wide,
  onChange,
}: {
  label: string;
  value: string;
  placeholder?: string;
  problem: Schemas["FieldProblem"] | undefined;
  wide?: boolean;
  onChange: (value: string) => void;
}) {
  return (
    <span className={`inline-flex flex-col ${wide ? "min-w-0 flex-1" : ""}`}>
      <input
        aria-label={label}
        aria-invalid={problem !== undefined}
        value={value}
        placeholder={placeholder}
        spellCheck={false}
        onChange={(event) => onChange(event.target.value)}
        className={`rounded-md border border-line bg-sheet px-2 font-sans text-sm leading-7 aria-invalid:border-denied ${wide ? "w-full" : "w-44"}`}
      />
      {problem?.character !== undefined && <Slip text={value} character={problem.character} />}
      {problem && (
        <span role="alert" className="font-sans text-[13px] leading-snug text-denied">
          {problem.message}
          {problem.fix && <>; {problem.fix}</>}
        </span>
      )}
    </span>
  );
}

/** An object without a key where a value says nothing. */
export function withKey<T extends object, K extends keyof T & string>(
  object: T,
  key: K,
  value: T[K] | undefined,
): T {
  const next = { ...object };
  const nothing =
    value === undefined || (value as unknown) === "" || (Array.isArray(value) && value.length === 0);
  if (nothing) delete next[key];
  else next[key] = value;
  return next;
}
