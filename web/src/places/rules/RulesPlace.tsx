import { useQuery } from "@tanstack/react-query";
import { Link, Navigate, useLocation, useParams } from "react-router";
import { rulesQuery } from "../../api/queries";
import { Panel } from "../../road/Panel";
import { AddMenu } from "./AddMenu";
import { FindByEffect } from "./FindByEffect";
import { addressOf, isRuleKind } from "./kinds";
import type { Rules } from "./kinds";
import { ObjectEditor } from "./ObjectEditor";
import { Patterns } from "./Patterns";
import { RuleList } from "./RuleList";
import { SeveralAtOnce } from "./SeveralAtOnce";

/** The rules: what should be. */
export function RulesPlace() {
  const { kind, name } = useParams();
  const { search } = useLocation();
  const rules = useQuery(rulesQuery);
  const finds = kind === "find" && !name;
  const several = kind === "several" && !name;
  // An address with a name alone is that of a policy.
  if (kind && !name && !finds && !several)
    return <Navigate to={{ pathname: addressOf("policy", kind), search }} replace />;
  return (
    <div className="relative flex h-full">
      {rules.data && <RuleList rules={rules.data} />}
      {rules.error && <p className="p-5 text-denied">{rules.error.message}</p>}
      {finds && <FindByEffect />}
      {several && rules.data && <SeveralAtOnce rules={rules.data} />}
      {rules.data && kind && name && isRuleKind(kind) ? (
        <ObjectEditor key={`${kind} ${name}`} kind={kind} name={name} rules={rules.data} />
      ) : (
        rules.data && !finds && !several && <Nothing rules={rules.data} />
      )}
      <Panel />
    </div>
  );
}

function Nothing({ rules }: { rules: Rules }) {
  const { search } = useLocation();
  return (
    <div className="flex-1 overflow-y-auto p-7">
      <h1 className="font-serif text-[22px] font-semibold">Rules</h1>
      <p className="mt-2 max-w-prose text-soft">
        Policies decide what passes inside a segment and to the internet; guardrails make any verdict
        stricter. Shares let one segment reach part of another. Publications let the internet in. Expectations
        state what must always hold. Select an object to edit it, or add one: its exact consequence is shown
        while you write, and nothing changes before you save.
      </p>
      <div className="mt-4 flex items-center gap-3">
        <AddMenu main />
        <Link
          to={{ pathname: "/rules/find", search }}
          className="rounded border border-line px-3 py-1 hover:border-accent hover:text-accent"
        >
          Find rules by what they do
        </Link>
      </div>
      <Patterns rules={rules} />
    </div>
  );
}
