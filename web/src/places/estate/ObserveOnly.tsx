import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { useMay } from "../../api/people";
import { objectQuery } from "../../api/queries";
import type { Schemas } from "../../api/client";
import { Consequence } from "../../parts/Consequence";
import { Button } from "../../parts/fields";

/** Whether Bivium writes the lists of an account, or only reads them; and the edit that changes that. */
export function ObserveOnly({ account }: { account: Schemas["Account"] }) {
  const [changing, setChanging] = useState(false);
  const object = useQuery(objectQuery("account", account.name));
  const writes = useMay("engineer");
  const observed = object.data?.object.observed === true; // in the draft that is looked at, if any
  const verb = observed ? "Manage this account" : "Observe only";
  return (
    <div className="pt-3 text-[13px]">
      <p className="flex items-center gap-3">
        <span className="flex-1">
          {observed
            ? "Observed only: Bivium reads its lists and never writes them."
            : "Managed: Bivium writes its lists and routes from policies."}
        </span>
        {writes && !changing && <Button onClick={() => setChanging(true)}>{verb}</Button>}
        {changing && <Button onClick={() => setChanging(false)}>Cancel</Button>}
      </p>
      {observed && (
        <p className="pt-1">
          <Link to="/targets/observed" className="text-accent hover:underline">
            What its lists do
          </Link>
        </p>
      )}
      {changing && object.data && (
        <Consequence
          edit={{
            operations: [
              {
                op: "put",
                kind: "account",
                object: { ...object.data.object, observed: !observed },
                base: object.data.base,
              },
            ],
          }}
          verb={verb}
          onDone={() => setChanging(false)}
        />
      )}
    </div>
  );
}
