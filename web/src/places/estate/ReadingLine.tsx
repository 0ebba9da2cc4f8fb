import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useUrlState } from "../../frame/urlState";
import type { Schemas } from "../../api/client";
import { everything, startReading, stopReading } from "../../api/queries";
import { Button } from "../../parts/fields";
import { counted, grouped } from "../../parts/wording";

/** How an account's inventory stands, in one line, and what can be done about it. */
export function ReadingLine({ account }: { account: Schemas["Account"] }) {
  const queries = useQueryClient();
  const { change } = useUrlState();
  const stale = () => queries.invalidateQueries({ queryKey: everything });
  const start = useMutation({
    mutationFn: (goOn: boolean) => startReading(account.name, goOn),
    onSettled: stale,
  });
  const stop = useMutation({ mutationFn: () => stopReading(account.name), onSettled: stale });
  const reading = account.reading;
  const running = reading?.state === "running";
  return (
    <span
      className="flex min-w-0 items-center gap-3 text-[13px]"
      onClick={(e) => (e.target as Element).closest("button") && e.stopPropagation()}
    >
      <span className="flex-none text-soft">{account.provider}</span>
      <span className="min-w-0 flex-1 truncate" data-testid={`reading-${account.name}`}>
        {start.error ? (
          <span className="text-denied">{start.error.message}</span>
        ) : (
          <Standing account={account} />
        )}
      </span>
      {running ? (
        <Button onClick={() => stop.mutate()}>Stop</Button>
      ) : account.endpoint === "" ? (
        <Button onClick={() => change({ connect: account.name })}>Connect</Button>
      ) : (
        <>
          {reading?.goesOn && <Button onClick={() => start.mutate(true)}>Resume</Button>}
          <Button onClick={() => start.mutate(false)}>{reading ? "Sync again" : "Sync"}</Button>
        </>
      )}
    </span>
  );
}

function Standing({ account }: { account: Schemas["Account"] }) {
  const r = account.reading;
  if (!r)
    return (
      <span className="text-soft">{account.endpoint ? "connected, never synced" : "not connected"}</span>
    );
  if (r.state === "running") return <Progress reading={r} />;
  if (r.state === "cut-off") return <span className="text-denied">cut off: {r.report.why}</span>;
  const what = r.report.counts.map((c) => `${counted(c.count, c.kind)} ${c.what}`).join(", ");
  return (
    <>
      {r.state === "partial" && (
        <span className="text-denied">
          partial ({grouped(r.networks + r.workloads)} of {grouped(r.total)}): {r.report.why}
          {what && " · "}
        </span>
      )}
      {what || (r.state === "done" ? "nothing changed" : "")}
      <span className="text-soft"> · {when(r.ended)}</span>
    </>
  );
}

function Progress({ reading }: { reading: Schemas["Reading"] }) {
  const read = reading.networks + reading.workloads;
  const share = reading.total > 0 ? read / reading.total : 0;
  return (
    <span className="flex items-center gap-2.5">
      <span
        role="progressbar"
        aria-valuenow={Math.round(100 * share)}
        className="h-1.5 w-40 flex-none overflow-hidden rounded-full bg-line"
      >
        <span className="block h-full rounded-full bg-accent" style={{ width: `${100 * share}%` }} />
      </span>
      {reading.step === "take in" ? "applying…" : `${grouped(read)} of ${grouped(reading.total)}`}
    </span>
  );
}

/** When something was, as far as it matters. */
export function when(time: string): string {
  const at = new Date(time);
  const minutes = Math.round((Date.now() - at.getTime()) / 60_000);
  if (minutes < 1) return "just now";
  if (minutes < 60) return `${counted(minutes, "minute")} ago`;
  return at.toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });
}
