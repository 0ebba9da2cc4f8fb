import { ArrowDown, ArrowUp, Trash2 } from "lucide-react";
import type { ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { serviceText } from "../../parts/wording";
import { Choose } from "./Choose";
import type { Edit } from "./draft";
import { TokenField } from "./TokenField";

interface Props {
  rule: Schemas["Rule"];
  index: number;
  count: number;
  guardrail: boolean;
  estate: Schemas["Estate"];
  problemAt: (at: string) => Schemas["FieldProblem"] | undefined;
  onEdit: (edit: Edit) => void;
}

type Action = Schemas["Rule"]["action"];

/** One rule as a sentence: inspect web by watch. */
export function RuleRow({ rule, index, count, guardrail, estate, problemAt, onEdit }: Props) {
  const services = [
    ...estate.services.map((s) => ({ text: s.name, hint: s.hint, kind: "service" })),
    { text: "any", hint: "every protocol and port", kind: "service" },
  ];
  const pools = estate.pools.map((p) => p.name);
  const at = `rules[${index}]`;
  const problem =
    problemAt(at) ?? problemAt(`${at}.pool`) ?? problemAt(`${at}.action`) ?? problemAt(`${at}.services`);
  return (
    <li className="rounded-md border border-line px-3 py-2" aria-label={`Rule ${index + 1}`}>
      <div className="flex flex-wrap items-start gap-2 font-serif text-[16px]">
        <span className="w-[6.4rem] flex-none pt-0.5 text-right text-soft italic">
          {index + 1} · {index === 0 ? "first" : "then"}
        </span>
        <Choose
          label={`Action of rule ${index + 1}`}
          value={rule.action}
          values={guardrail ? ["inspect", "deny"] : ["allow", "inspect", "deny"]}
          bold
          onChange={(action) =>
            onEdit({ type: "action", rule: index, action: action as Action, pool: pools[0] })
          }
        />
        <TokenField
          id={`services-${index}`}
          label={`services of rule ${index + 1}`}
          tokens={rule.services.map(serviceText)}
          choices={services}
          placeholder="service"
          problem={(i) => problemAt(`${at}.services[${i}]`)}
          onChange={(tokens) =>
            onEdit({ type: "services", rule: index, services: tokens.map((t) => known(rule, t)) })
          }
        />
        {rule.action === "inspect" && (
          <span className="inline-flex items-start gap-2">
            <span className="pt-0.5 text-soft italic">by</span>
            <Choose
              label={`Pool of rule ${index + 1}`}
              value={rule.pool ?? ""}
              values={pools}
              placeholder="pool"
              onChange={(pool) => onEdit({ type: "pool", rule: index, pool })}
            />
          </span>
        )}
        <span className="ml-auto flex gap-1 pt-1">
          <Tool
            label={`Move rule ${index + 1} up`}
            disabled={index === 0}
            onClick={() => onEdit({ type: "move", rule: index, by: -1 })}
          >
            <ArrowUp size={14} />
          </Tool>
          <Tool
            label={`Move rule ${index + 1} down`}
            disabled={index === count - 1}
            onClick={() => onEdit({ type: "move", rule: index, by: 1 })}
          >
            <ArrowDown size={14} />
          </Tool>
          <Tool label={`Remove rule ${index + 1}`} onClick={() => onEdit({ type: "remove", rule: index })}>
            <Trash2 size={14} />
          </Tool>
        </span>
      </div>
      {rule.description && <p className="mt-1 pl-[7rem] text-[13px] text-soft">{rule.description}</p>}
      {problem && (
        <p role="alert" className="mt-1 pl-[7rem] text-[13px] text-denied">
          {problem.message}
          {problem.fix ? ` — ${problem.fix}` : ""}
        </p>
      )}
    </li>
  );
}

/** The service that a token stands for; one in object form is kept as it was. */
function known(rule: Schemas["Rule"], token: string): Schemas["ServiceRef"] {
  return rule.services.find((s) => serviceText(s) === token) ?? token;
}

function Tool({
  label,
  disabled,
  onClick,
  children,
}: {
  label: string;
  disabled?: boolean;
  onClick: () => void;
  children: ReactNode;
}) {
  return (
    <button
      aria-label={label}
      title={label}
      disabled={disabled}
      onClick={onClick}
      className="rounded p-1 text-soft hover:bg-wash hover:text-ink disabled:opacity-30"
    >
      {children}
    </button>
  );
}
