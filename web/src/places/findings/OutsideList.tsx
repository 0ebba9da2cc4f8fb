import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { lookOutside, outsideQuery } from "../../api/plans";
import { problemText } from "../../parts/ConsequenceView";
import { Button } from "../../parts/fields";
import { moment } from "../../parts/wording";

const names: Record<Schemas["Outside"]["concerns"][number]["kind"], string> = {
  drift: "Drift",
  unread: "Not read",
  emergency: "Emergency",
};

/** What wants to be looked at that no computation finds: drift, accounts out of reach, emergencies. */
export function OutsideList() {
  const outside = useQuery(outsideQuery);
  const queries = useQueryClient();
  const look = useMutation({
    mutationFn: lookOutside,
    onSuccess: (o) => queries.setQueryData(outsideQuery.queryKey, o),
  });
  const o = outside.data;
  if (!o || (o.at === null && o.concerns.length === 0)) return null;
  return (
    <section aria-label="Outside" className="mt-2 border-b border-line pb-3">
      <header className="flex items-baseline gap-3 text-[13px]">
        <h2 className="font-semibold">Accounts and changes</h2>
        <span className="flex-1 text-soft">
          {o.concerns.length === 0 && "Accounts hold what is intended."}{" "}
          {o.at && `Accounts were compared ${moment(o.at)}.`}
        </span>
        <Button disabled={look.isPending || o.looking} onClick={() => look.mutate()}>
          {look.isPending || o.looking ? "Reading the accounts…" : "Compare now"}
        </Button>
      </header>
      {look.error && (
        <p role="alert" className="text-[13px] text-denied">
          {problemText(look.error)}
        </p>
      )}
      <ul>
        {o.concerns.map((c) => (
          <li key={c.kind + c.subject} className="flex items-baseline gap-3 py-1">
            <span className="w-20 flex-none text-[13px] text-denied">{names[c.kind]}</span>
            <span className="min-w-0 flex-1">
              <Link to={c.link} className="hover:text-accent hover:underline">
                {c.subject}
              </Link>{" "}
              <span className="text-soft">{c.body}</span>
            </span>
            <span className="flex-none text-[13px] text-soft">since {moment(c.since)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
