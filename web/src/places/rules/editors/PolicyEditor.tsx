import type { Schemas } from "../../../api/client";
import { TokenField } from "../TokenField";
import type { Rules } from "../kinds";
import type { EditorProps, ProblemAt } from "./Editor";
import { Line, Problem, segmentChoices, Sentence, SideField } from "./parts";
import { RuleList } from "./RuleList";
import { Terms } from "./Terms";

type Policy = Schemas["Policy"];

/** A policy or guardrail as a sentence, with its rules below. */
export function PolicyEditor({ object: p, rules, problemAt, onWrite, onMake }: EditorProps<Policy>) {
  const guardrail = p.tier === "guardrail";
  const scope = (key: "segments" | "fromSegments" | "toSegments", word: string) => (
    <ScopeLine
      word={word}
      name={key}
      value={p[key]}
      rules={rules}
      problemAt={problemAt}
      onChange={(value) => onWrite({ ...p, [key]: value })}
    />
  );
  return (
    <>
      <Sentence>
        {guardrail ? (
          <>
            {scope("fromSegments", "From segments")}
            {scope("toSegments", "to segments")}
          </>
        ) : (
          scope("segments", "In")
        )}
        {(["from", "to"] as const).map((side) => (
          <Line key={side} word={side}>
            <SideField
              id={`side-${side}`}
              label={`${side} groups`}
              value={p[side]}
              any={guardrail ? "every endpoint" : "every endpoint inside; never the internet"}
              at={side}
              rules={rules}
              problemAt={problemAt}
              onChange={(value) => onWrite({ ...p, [side]: value })}
              onMake={onMake}
            />
          </Line>
        ))}
      </Sentence>
      <RuleList
        rules={p.rules}
        all={rules}
        actions={guardrail ? ["inspect", "deny"] : ["allow", "inspect", "deny"]}
        problemAt={problemAt}
        onChange={(list) => onWrite({ ...p, rules: list })}
        onMake={onMake}
      />
      <Problem at={["rules"]} problemAt={problemAt} />
      <div className="mt-4">
        <Terms
          of={guardrail ? "the guardrail" : "the policy"}
          value={p}
          problemAt={problemAt}
          onChange={onWrite}
        />
      </div>
      <p className="mt-4 text-[13px] text-soft">
        The first rule that includes the service decides. Flows that no rule includes are not affected by this
        policy.
      </p>
    </>
  );
}

interface ScopeProps {
  word: string;
  name: string;
  value: Schemas["Scope"] | undefined;
  rules: Rules;
  problemAt: ProblemAt;
  onChange: (value: Schemas["Scope"]) => void;
}

/** Some segments, or all. */
export function ScopeLine({ word, name, value, rules, problemAt, onChange }: ScopeProps) {
  return (
    <Line word={word}>
      <TokenField
        id={name}
        label={word === "In" ? "segments" : word.toLowerCase()}
        tokens={value === undefined || value === "all" ? ["all"] : value}
        choices={[...segmentChoices(rules), { text: "all", hint: "every segment", kind: "" }]}
        placeholder="segment"
        problem={(i) => problemAt(`${name}[${i}]`)}
        onChange={(tokens) => onChange(tokens.at(-1) === "all" ? "all" : tokens.filter((t) => t !== "all"))}
      />
    </Line>
  );
}
