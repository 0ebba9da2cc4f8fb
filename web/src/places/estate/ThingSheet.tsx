import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { X } from "lucide-react";
import type { ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { disconnect, everything, healthQuery, nativeRulesQuery, sheetQuery } from "../../api/queries";
import { useUrlState } from "../../frame/urlState";
import { ThingLink } from "../../parts/ThingLink";
import { counted, grouped } from "../../parts/wording";
import { LabelsOf } from "./LabelsOf";
import { ObserveOnly } from "./ObserveOnly";
import { when } from "./ReadingLine";
import { ReportSheet } from "./ReportSheet";

interface Props {
  kind: string;
  name: string;
  accounts: Schemas["Account"][];
  onClose: () => void;
}

/** One thing with everything that touches it. */
export function ThingSheet({ kind, name, accounts, onClose }: Props) {
  const sheet = useQuery(sheetQuery(kind, name));
  const account = kind === "account" ? accounts.find((a) => a.name === name) : undefined;
  const { change } = useUrlState();
  return (
    <aside
      aria-label={`${kind} ${name}`}
      className="h-full w-[400px] flex-none overflow-y-auto border-l border-line bg-sheet px-5 pt-3 pb-6 max-[960px]:absolute max-[960px]:inset-0 max-[960px]:z-20 max-[960px]:w-full 2xl:w-[500px]"
    >
      <header className="flex items-start gap-2">
        <h2 className="min-w-0 flex-1 font-serif text-[18px] leading-snug font-semibold break-words">
          <span className="font-normal text-soft">{kind}</span> {name}
        </h2>
        <button aria-label="Close" className="pt-1 text-soft hover:text-ink" onClick={onClose}>
          <X size={17} />
        </button>
      </header>
      {sheet.error && <p className="py-2 text-denied">{sheet.error.message}</p>}
      {(kind === "workload" || kind === "network" || kind === "group") && (
        <p className="flex gap-3 pt-1 text-[13px]">
          {(["from", "to"] as const).map((end) => (
            <button
              key={end}
              className="text-accent hover:underline"
              onClick={() => change({ [end]: name, row: null, col: null, at: null })}
            >
              Ask {end} it
            </button>
          ))}
        </p>
      )}
      {account && <AccountParts account={account} />}
      {sheet.data && <Parts key={sheet.data.revision} sheet={sheet.data} />}
    </aside>
  );
}

function Part({ title, children }: { title: ReactNode; children: ReactNode }) {
  return (
    <section className="pt-3.5">
      <h3 className="pb-1 text-xs font-semibold text-soft">{title}</h3>
      {children}
    </section>
  );
}

function Parts({ sheet }: { sheet: Schemas["Sheet"] }) {
  return (
    <>
      {(sheet.kind === "workload" || sheet.kind === "network") && (
        <Part title="Labels">
          <LabelsOf sheet={sheet} />
        </Part>
      )}
      {sheet.read && (
        <Part title="Tags in its account">
          {Object.keys(sheet.tags).length === 0 ? (
            <p className="text-[13px] text-soft">none</p>
          ) : (
            <p className="font-mono text-xs leading-5">
              {Object.entries(sheet.tags).map(([k, v]) => (
                <span key={k} className="block">
                  <span className="text-soft">{k}:</span> {v}
                </span>
              ))}
            </p>
          )}
        </Part>
      )}
      {sheet.kind === "group" && (
        <Part title={counted(sheet.members, "workload is a member", "workloads are members")}>
          <p className="text-[13px]">
            {sheet.some.map((w, i) => (
              <span key={w}>
                {i > 0 && ", "}
                <ThingLink plain thing={{ kind: "workload", name: w }} />
              </span>
            ))}
            {sheet.members > sheet.some.length && ` and ${grouped(sheet.members - sheet.some.length)} more`}
          </p>
        </Part>
      )}
      {sheet.groups.length > 0 && (
        <Part title="Groups, and why">
          <ul className="text-[13px]">
            {sheet.groups.map((g) => (
              <li key={g.name} className="flex gap-2">
                <ThingLink plain thing={{ kind: "group", name: g.name }} />
                <span className="min-w-0 truncate font-mono text-xs leading-5 text-soft">{g.hint}</span>
              </li>
            ))}
          </ul>
        </Part>
      )}
      {sheet.kind === "network" && sheet.read && <NativeRules network={sheet.name} />}
      <Things title="Rules that refer to it" things={sheet.rules} />
      <Things
        title={sheet.kind === "workload" ? "Exits of its segment" : "Related objects"}
        things={sheet.uses}
      />
      {sheet.issues.length > 0 && (
        <Part title={counted(sheet.issues.length, "problem", "problems")}>
          <ul className="text-[13px]">
            {sheet.issues.slice(0, 20).map((t, i) => (
              <li key={i} className="border-t border-line py-1">
                {t.message}
                {t.fix && <span className="text-soft">; {t.fix}</span>}
              </li>
            ))}
          </ul>
        </Part>
      )}
      {sheet.history.length > 0 && (
        <Part title="Last changes">
          <ul className="text-[13px]">
            {sheet.history.map((h) => (
              <li key={h.revision}>
                <span className="text-soft">revision {h.revision}</span> {h.what}
                {h.before === "" ? ": added" : ""}{" "}
                <span className="text-soft">
                  · {h.actor}, {when(h.at)}
                </span>
              </li>
            ))}
          </ul>
        </Part>
      )}
      <Part title="In the document">
        <pre tabIndex={0} className="overflow-x-auto rounded bg-paper px-2.5 py-2 font-mono text-xs">
          {sheet.document}
        </pre>
      </Part>
    </>
  );
}

/** What its provider enforces there today, whoever wrote it. */
function NativeRules({ network }: { network: string }) {
  const lists = useQuery(nativeRulesQuery(network, true));
  return (
    <Part title="Rules at its provider now">
      {lists.error && <p className="text-[13px] text-denied">{lists.error.message}</p>}
      {lists.data?.length === 0 && <p className="text-[13px] text-soft">none</p>}
      {lists.data?.map((list) => (
        <div key={list.on} className="pb-1 text-[13px]">
          <span className="text-soft">on</span> {list.on}
          {list.rules.map((r, i) => (
            <span key={i} className="block pl-3 font-mono text-xs leading-5">
              {r}
            </span>
          ))}
        </div>
      ))}
    </Part>
  );
}

function Things({ title, things }: { title: string; things: Schemas["Ref"][] }) {
  if (things.length === 0) return null;
  return (
    <Part title={title}>
      <ul className="flex flex-wrap gap-1.5">
        {things.map((t) => (
          <li key={t.kind + t.name}>
            <ThingLink thing={t} />
          </li>
        ))}
      </ul>
    </Part>
  );
}

function AccountParts({ account }: { account: Schemas["Account"] }) {
  const health = useQuery(healthQuery(account.name, account.endpoint !== ""));
  const { change } = useUrlState();
  const queries = useQueryClient();
  const leave = useMutation({
    mutationFn: () => disconnect(account.name),
    onSettled: () => queries.invalidateQueries({ queryKey: everything }),
  });
  return (
    <>
      <p className="pt-1 text-[13px] text-soft">
        {account.provider}
        {account.endpoint ? (
          <>
            {" "}
            at <span className="font-mono">{account.endpoint}</span> ·{" "}
            <button className="text-accent hover:underline" onClick={() => change({ connect: account.name })}>
              change
            </button>{" "}
            ·{" "}
            <button
              className="text-accent hover:underline"
              title="delete the credential; synced objects stay"
              onClick={() => leave.mutate()}
            >
              disconnect
            </button>
          </>
        ) : (
          ", not connected"
        )}
      </p>
      <ObserveOnly account={account} />
      {account.reading && <ReportSheet reading={account.reading} />}
      {(health.data || health.error) && (
        <Part title="At its provider">
          {health.error && <p className="text-[13px] text-denied">{health.error.message}</p>}
          <ul className="text-[13px]">
            {health.data?.map((h) => (
              <li key={h.kind + h.name} className="flex gap-2">
                <span className="text-soft">{h.kind}</span> {h.name}
                <span className={h.state === "up" ? "text-soft" : "text-denied"}>
                  {h.state}
                  {h.why && `: ${h.why}`}
                </span>
              </li>
            ))}
          </ul>
        </Part>
      )}
    </>
  );
}
