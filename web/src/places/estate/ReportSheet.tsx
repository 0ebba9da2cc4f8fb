import type { Schemas } from "../../api/client";
import { WhatChanges } from "../../parts/WhatChanges";
import { ThingLink } from "../../parts/ThingLink";
import { counted, grouped } from "../../parts/wording";
import { when } from "./ReadingLine";

/** What the last reading of an account did to the estate. */
export function ReportSheet({ reading }: { reading: Schemas["Reading"] }) {
  const { report } = reading;
  if (reading.state === "running") return null;
  return (
    <section className="pt-3.5 text-[13px]" data-testid="report">
      <h3 className="pb-1 text-xs font-semibold text-soft">
        Synced {reading.ended.startsWith("0001") ? "" : when(reading.ended)}:{" "}
        {counted(reading.networks, "network")}, {counted(reading.workloads, "workload")}
      </h3>
      {report.why && (
        <p className="text-denied">
          {reading.state === "partial" &&
            `Partial, ${grouped(reading.networks + reading.workloads)} of ${grouped(reading.total)}: `}
          {report.why}
          {report.fix && <span className="text-soft">; {report.fix}</span>}
        </p>
      )}
      {report.notes.map((n) => (
        <p key={n}>{n}</p>
      ))}
      {report.changes.length === 0 && reading.state === "done" && (
        <p className="text-soft">Nothing changed.</p>
      )}
      <ul>
        {report.changes.slice(0, 60).map((c, i) => (
          <li key={i} className="border-t border-line py-0.5">
            <span
              className={
                c.what === "new" ? "text-accent" : c.what === "gone" || c.what === "kept" ? "text-denied" : ""
              }
            >
              {c.what}
            </span>{" "}
            <span className="text-soft">{c.kind}</span>{" "}
            {c.what === "gone" || c.what === "left out" ? c.name : <ThingLink plain thing={c} />}
            {c.how && <span className="text-soft">: {c.how}</span>}
          </li>
        ))}
        {report.changes.length > 60 && (
          <li className="py-0.5 text-soft">
            In total: {report.counts.map((c) => `${counted(c.count, c.kind)} ${c.what}`).join(", ")}
          </li>
        )}
      </ul>
      {report.covered.length > 0 && (
        <>
          <h3 className="pt-3 pb-1 text-xs font-semibold text-soft">Groups that they joined</h3>
          <ul>
            {report.covered.map((c) => (
              <li key={c.group} className="border-t border-line py-1">
                <ThingLink plain thing={{ kind: "group", name: c.group }} />{" "}
                <span className="text-soft">
                  + {c.workloads.join(", ")}
                  {c.count > c.workloads.length && ` and ${c.count - c.workloads.length} more`}
                </span>
                {c.rules.length > 0 && (
                  <span className="block">
                    <span className="text-soft">covered by </span>
                    {c.rules.map((r, i) => (
                      <span key={r.kind + r.name}>
                        {i > 0 && ", "}
                        <ThingLink plain thing={r} />
                      </span>
                    ))}
                  </span>
                )}
              </li>
            ))}
          </ul>
        </>
      )}
      <h3 className="pt-3 pb-1 text-xs font-semibold text-soft">Flows that changed</h3>
      <WhatChanges asks {...report} />
    </section>
  );
}
