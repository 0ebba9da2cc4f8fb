import { CalendarClock } from "lucide-react";
import { useState } from "react";
import type { ProblemAt } from "./Editor";
import { Problem, withKey } from "./parts";

/** Why a policy, share or rule is there, and for how long. */
interface Dated {
  ticket?: string;
  until?: string;
  review?: string;
}

interface Props<T extends Dated> {
  /** What it is of, for readers of labels: "policy", "rule 2". */
  of: string;
  value: T;
  at?: string;
  /** A sign alone at the end of a line stands for it while it is closed; it opens below that line. */
  brief?: boolean;
  problemAt: ProblemAt;
  onChange: (value: T) => void;
}

/** The ticket, the last day and the day for review; closed until one is given or wanted. */
export function Terms<T extends Dated>({ of, value, at = "", brief, problemAt, onChange }: Props<T>) {
  const [wanted, setWanted] = useState(false);
  const open = wanted || Boolean(value.ticket) || Boolean(value.until) || Boolean(value.review);
  const field = (key: keyof Dated & string, label: string, type: "text" | "date") => (
    <label className="flex items-center gap-1.5">
      {label}
      <input
        type={type}
        aria-label={`${label} of ${of}`}
        value={value[key] ?? ""}
        onChange={(event) =>
          onChange(withKey<Dated, typeof key>(value, key, event.target.value || undefined) as T)
        }
        className={`rounded-md border border-line bg-sheet px-1.5 text-ink ${type === "text" ? "w-28" : ""}`}
      />
    </label>
  );
  if (!open)
    return (
      <button
        type="button"
        aria-label={`Ticket, last day, review of ${of}`}
        title={brief ? "Ticket, last day, review" : undefined}
        className="mt-0.5 inline-flex min-h-6 min-w-6 items-center gap-1.5 text-[13px] text-soft hover:text-accent"
        onClick={() => setWanted(true)}
      >
        <CalendarClock size={13} /> {!brief && "Ticket, last day, review"}
      </button>
    );
  return (
    <div className={brief ? "basis-full pl-[7rem] font-sans" : ""}>
      <span className="mt-1.5 flex flex-wrap items-center gap-x-4 gap-y-1 text-[13px] text-soft">
        {field("ticket", "Ticket", "text")}
        {field("until", "Last day", "date")}
        {field("review", "Review on", "date")}
      </span>
      <Problem at={["ticket", "until", "review"].map((key) => at + key)} problemAt={problemAt} />
    </div>
  );
}
