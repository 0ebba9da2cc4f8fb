import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { auditQuery, verifyQuery } from "../../api/people";
import { useDebounced } from "../../parts/useDebounced";
import { counted, moment } from "../../parts/wording";

/** Who did what, the newest first. */
export function AuditLog() {
  const [find, setFind] = useState("");
  const log = useQuery(auditQuery(useDebounced(find, 200)));
  const state = useQuery(verifyQuery);
  if (log.error) return <p className="pt-4 text-denied">{log.error.message}</p>;
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-5 pt-3">
        <input
          type="search"
          aria-label="Find in the audit log"
          placeholder="Find a person, address, draft …"
          value={find}
          onChange={(e) => setFind(e.target.value)}
          className="w-72 rounded border border-line bg-sheet px-2.5 py-1"
        />
        {state.data && (
          <p className={`flex-1 text-[13px] ${state.data.broken ? "text-denied" : "text-soft"}`}>
            {state.data.broken
              ? `The audit log was tampered with: ${state.data.broken}`
              : `All ${counted(state.data.entries, "entry", "entries")} are intact. Head: ${state.data.head.slice(0, 16)}…`}
          </p>
        )}
        <a href="/api/audit/export" className="text-accent hover:underline">
          Export as CSV
        </a>
      </div>
      <table className="mt-3 w-full text-left">
        <thead className="text-[13px] text-soft">
          <tr className="border-b border-line">
            <th className="py-1 pr-4 font-normal">When</th>
            <th className="pr-4 font-normal">Who</th>
            <th className="pr-4 font-normal">What</th>
            <th className="pr-4 font-normal">About</th>
            <th className="pr-4 font-normal">Detail</th>
            <th className="font-normal">From</th>
          </tr>
        </thead>
        <tbody>
          {log.data?.entries.map((e) => (
            <tr key={e.number} className="border-b border-line/60 align-top">
              <td className="py-1 pr-4 whitespace-nowrap text-soft">{moment(e.at)}</td>
              <td className="py-1 pr-4">{e.actor || "unknown person"}</td>
              <td className="py-1 pr-4 whitespace-nowrap">{e.what}</td>
              <td className="py-1 pr-4">{e.about}</td>
              <td className="max-w-[28rem] py-1 pr-4 text-[13px] break-words text-soft">{e.detail}</td>
              <td className="py-1 font-mono text-xs text-soft">{e.address}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
