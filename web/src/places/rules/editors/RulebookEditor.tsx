import type { Schemas } from "../../../api/client";
import { Choose } from "../Choose";
import type { EditorProps } from "./Editor";
import { Problem, ServicesField, SideField } from "./parts";
import { Ordered } from "./RuleList";

type Rulebook = Schemas["Rulebook"];
type BookRule = Schemas["BookRule"];

/** What the firewalls of a pool enforce: the first rule that fits a flow decides. */
export function RulebookEditor({ object: b, rules, problemAt, onWrite, onMake }: EditorProps<Rulebook>) {
  const put = (i: number, rule: BookRule) =>
    onWrite({ ...b, rules: b.rules.map((r, k) => (k === i ? rule : r)) });
  const side = (rule: BookRule, i: number, which: "from" | "to") => (
    <SideField
      id={`${which}-${i}`}
      label={`${which} groups of rule ${i + 1}`}
      value={rule[which]}
      any="every endpoint"
      at={`rules[${i}].${which}`}
      rules={rules}
      problemAt={problemAt}
      onChange={(value) => put(i, { ...rule, [which]: value })}
      onMake={onMake}
    />
  );
  return (
    <>
      <Ordered
        items={b.rules}
        noun="rule"
        onChange={(list) => onWrite({ ...b, rules: list })}
        onAdd={() =>
          onWrite({ ...b, rules: [...b.rules, { from: "any", to: "any", services: [], action: "drop" }] })
        }
        row={(rule, i) => (
          <>
            <div className="flex flex-wrap items-start gap-2 font-serif text-[16px]">
              <span className="pt-0.5 text-soft italic">{i + 1} ·</span>
              <Choose
                label={`Action of rule ${i + 1}`}
                value={rule.action}
                values={["pass", "drop", "reject"]}
                bold
                onChange={(action) => put(i, { ...rule, action: action as BookRule["action"] })}
              />
              <ServicesField
                id={`services-${i}`}
                label={`services of rule ${i + 1}`}
                value={rule.services}
                at={`rules[${i}].services`}
                rules={rules}
                problemAt={problemAt}
                onChange={(services) => put(i, { ...rule, services })}
                onMake={onMake}
              />
              {(["from", "to"] as const).map((which) => (
                <span key={which} className="inline-flex items-start gap-2">
                  <span className="pt-0.5 text-soft italic">{which}</span>
                  {side(rule, i, which)}
                </span>
              ))}
            </div>
            <Problem at={[`rules[${i}]`, `rules[${i}].services`]} problemAt={problemAt} />
          </>
        )}
      />
      <Problem at={["rules"]} problemAt={problemAt} />
      <p className="mt-4 text-[13px] text-soft">
        The first rule that includes a flow decides. Flows that no rule includes are dropped.
      </p>
    </>
  );
}
