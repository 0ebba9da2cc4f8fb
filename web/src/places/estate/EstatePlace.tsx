import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Search } from "lucide-react";
import { useEffect, useRef } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { accountsQuery, disconnect, estateQuery, everything, startReading } from "../../api/queries";
import { useTypedUrlState, useUrlState } from "../../frame/urlState";
import { Button } from "../../parts/fields";
import { ConnectOverlay } from "./ConnectOverlay";
import { GroupOverlay } from "./GroupOverlay";
import { ImportOverlay } from "./ImportOverlay";
import { ThingSheet } from "./ThingSheet";
import { Tree } from "./Tree";

/** What is there: accounts down to workloads, and everything that touches each. */
export function EstatePlace() {
  const { params, change } = useUrlState();
  const estate = useQuery(estateQuery);
  const accounts = useQuery(accountsQuery);
  useEndOfReadings(
    accounts.data?.accounts.map((a) => [a.name, a.reading?.id, a.reading?.state].join()).join(" "),
  );
  const [text, setText] = useTypedUrlState("find");
  const find = params.get("find") ?? "";
  const unplaced = params.get("unplaced") === "1";
  const thing = params.get("thing");
  const colon = thing?.indexOf(":") ?? -1;
  const close = (what: string) => () => change({ [what]: null }, true);
  return (
    <div className="relative flex h-full">
      <section aria-label="Estate" className="flex min-w-0 flex-1 flex-col">
        <div className="flex flex-wrap items-center gap-2 px-5 pt-3 pb-2.5 text-[13px]">
          <label className="flex w-[17rem] min-w-0 flex-initial items-center gap-2 rounded border border-line bg-sheet px-2.5 py-1 focus-within:border-accent">
            <Search size={14} className="flex-none text-soft" aria-hidden />
            <input
              aria-label="Find"
              value={text}
              onChange={(e) => setText(e.target.value)}
              placeholder="name, address, prefix, label or group"
              className="min-w-0 flex-1 bg-transparent outline-none"
            />
          </label>
          <label className="flex items-center gap-1.5 whitespace-nowrap">
            <input
              type="checkbox"
              checked={unplaced}
              onChange={(e) => change({ unplaced: e.target.checked ? "1" : null })}
            />
            in no segment
          </label>
          <span className="flex-1" />
          <Link to="/estate/labels" className="px-1.5 whitespace-nowrap text-accent hover:underline">
            Labels
          </Link>
          <a href="/api/export" download className="px-1.5 text-accent hover:underline">
            Export
          </a>
          <SyncAll accounts={accounts.data?.accounts ?? []} />
          <Button onClick={() => change({ import: "1" })}>Import</Button>
          <Button onClick={() => change({ group: "1" })}>New group</Button>
          <Button main onClick={() => change({ connect: "1" })}>
            Connect an account
          </Button>
        </div>
        <Leftovers accounts={(accounts.data?.accounts ?? []).filter((a) => a.gone)} />
        {estate.data && (
          <Tree
            find={find}
            unplaced={unplaced}
            selected={thing}
            accounts={accounts.data?.accounts ?? []}
            onSelect={(id) => change({ thing: id })}
          />
        )}
      </section>
      {thing && colon > 0 && (
        <ThingSheet
          key={thing}
          kind={thing.slice(0, colon)}
          name={thing.slice(colon + 1)}
          accounts={accounts.data?.accounts ?? []}
          onClose={() => change({ thing: null })}
        />
      )}
      {params.has("connect") && accounts.data && (
        <ConnectOverlay
          providers={accounts.data.providers}
          again={accounts.data.accounts.find((a) => a.name === params.get("connect"))}
          onClose={close("connect")}
        />
      )}
      {params.has("import") && estate.data && (
        <ImportOverlay revision={estate.data.revision} empty={estate.data.empty} onClose={close("import")} />
      )}
      {params.has("group") && estate.data && (
        <GroupOverlay
          revision={estate.data.revision}
          match={find.includes("=") ? find : ""}
          onClose={close("group")}
        />
      )}
    </div>
  );
}

/** Syncs every account that is connected and not being synced. */
function SyncAll({ accounts }: { accounts: Schemas["Account"][] }) {
  const queries = useQueryClient();
  const idle = accounts.filter((a) => a.endpoint !== "" && !a.gone && a.reading?.state !== "running");
  const start = useMutation({
    mutationFn: () => Promise.allSettled(idle.map((a) => startReading(a.name, false))), // what fails stands on its line
    onSettled: () => queries.invalidateQueries({ queryKey: everything }),
  });
  if (!accounts.some((a) => a.endpoint !== "")) return null;
  return (
    <Button disabled={idle.length === 0 || start.isPending} onClick={() => start.mutate()}>
      {idle.length === 0 ? "Syncing…" : "Sync all"}
    </Button>
  );
}

/** Credentials of accounts that are not in the estate any more; nothing is sent with them. */
function Leftovers({ accounts }: { accounts: Schemas["Account"][] }) {
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: disconnect,
    onSettled: () => queries.invalidateQueries({ queryKey: everything }),
  });
  return accounts.map((a) => (
    <p key={a.name} className="border-t border-line px-5 py-1.5 text-[13px]">
      The account <b>{a.name}</b> is not in the estate any more; its credential for{" "}
      <span className="font-mono">{a.endpoint}</span> is kept and not used.{" "}
      <button className="text-accent hover:underline" onClick={() => remove.mutate(a.name)}>
        Remove the credential
      </button>
      {remove.error && <span className="text-denied"> {remove.error.message}</span>}
    </p>
  ));
}

/** Makes everything stale when a reading begins or ends: it may have changed the estate. */
function useEndOfReadings(readings: string | undefined) {
  const queries = useQueryClient();
  const before = useRef(readings);
  useEffect(() => {
    if (before.current !== undefined && readings !== before.current) {
      void queries.invalidateQueries({ queryKey: everything });
    }
    before.current = readings;
  }, [readings, queries]);
}
