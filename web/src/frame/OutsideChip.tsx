import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { outsideQuery } from "../api/plans";

/** In the frame: that accounts hold something else than is intended, where they do. */
export function OutsideChip() {
  const outside = useQuery(outsideQuery);
  const drift = outside.data?.concerns.filter((c) => c.kind === "drift").length ?? 0;
  const unread = outside.data?.concerns.filter((c) => c.kind === "unread").length ?? 0;
  if (drift + unread === 0) return null;
  return (
    <Link to="/findings" data-testid="outside" className="font-semibold text-denied hover:underline">
      {[drift > 0 && `drift at ${drift}`, unread > 0 && `${unread} not read`].filter(Boolean).join(", ")}
    </Link>
  );
}
