import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { tagsQuery } from "../api/queries";
import { stepsOf } from "../places/begin/steps";

const key = "bivium.steps";

/** What comes next in the order of the work, until it is all done or not wanted. */
export function NextStep({ estate }: { estate: Schemas["Estate"] }) {
  const [hidden, setHidden] = useState(() => localStorage.getItem(key) === "hidden");
  const tags = useQuery({ ...tagsQuery, enabled: !hidden });
  const next = stepsOf(estate, tags.data).find((step) => !step.done && step.to);
  if (hidden || !next?.to || !tags.data) return null;
  return (
    <span className="flex min-w-0 items-center gap-1.5">
      <Link to="/begin" className="hover:text-ink">
        next
      </Link>
      <Link to={next.to} className="min-w-0 truncate text-accent hover:underline">
        {next.title}: {next.what}
      </Link>
      <button
        aria-label="No more steps"
        className="hover:text-ink"
        onClick={() => {
          localStorage.setItem(key, "hidden");
          setHidden(true);
        }}
      >
        <X size={12} />
      </button>
    </span>
  );
}
