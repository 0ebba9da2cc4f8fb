import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { estateQuery, policiesQuery, policyQuery } from "../../api/queries";
import { Panel } from "../../road/Panel";
import { PolicyEditor } from "./PolicyEditor";
import { PolicyList } from "./PolicyList";

/** The rules: what should be. */
export function RulesPlace() {
  const { name } = useParams();
  const policies = useQuery(policiesQuery);
  return (
    <div className="relative flex h-full">
      {policies.data && <PolicyList policies={policies.data} />}
      {policies.error && <p className="p-5 text-denied">{policies.error.message}</p>}
      {name ? <Policy name={name} /> : <Nothing />}
      <Panel />
    </div>
  );
}

function Policy({ name }: { name: string }) {
  const estate = useQuery(estateQuery);
  const view = useQuery(policyQuery(name));
  const error = view.error ?? estate.error;
  if (error) return <p className="flex-1 p-7 text-denied">{error.message}</p>;
  if (!view.data || !estate.data) return <div className="flex-1" />;
  return <PolicyEditor key={name} view={view.data} estate={estate.data} />;
}

function Nothing() {
  return (
    <div className="flex-1 p-7">
      <h1 className="font-serif text-[22px] font-semibold">Rules</h1>
      <p className="mt-2 max-w-prose text-soft">
        Policies say what passes inside a segment and to the internet; guardrails make any verdict stricter,
        across segments too. Select one to edit it. Shares are edited in Lanes, from the head of a lane;
        firewall pools are drawn in every road, and come and go with an imported document only.
      </p>
    </div>
  );
}
