import type { Operation } from "../../api/queries";

/** The name of the object that an operation is about. */
export const nameIn = (o: Operation) => o.name ?? (o.object as { name?: string } | undefined)?.name ?? "";

const verbOf = (o: Operation) => {
  if (o.op !== "put") return o.op;
  return o.base === "absent" ? "add" : "change";
};

/** The operations of an edit, a line each. */
export function WhatIsWritten({ label, operations }: { label: string; operations: Operation[] }) {
  return (
    <ul aria-label={label} className="text-[13px]">
      {operations.map((o) => (
        <li key={`${o.op} ${o.kind} ${nameIn(o)}`}>
          <span className="text-soft">
            {verbOf(o)} {o.kind}
          </span>{" "}
          {nameIn(o)}
        </li>
      ))}
    </ul>
  );
}
