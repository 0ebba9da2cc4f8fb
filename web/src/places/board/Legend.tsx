import type { Outcome } from "../../parts/marks/geometry";
import { RoadMark } from "../../parts/marks/RoadMark";

const meanings: [Outcome, string][] = [
  ["allowed", "allowed"],
  ["inspected", "inspected"],
  ["blocked", "blocked by a firewall"],
  ["denied", "denied"],
  ["unrouted", "no forward or return path"],
];

/** What the marks mean. */
export function Legend() {
  return (
    <ul
      aria-label="Legend"
      className="flex flex-wrap gap-x-5 gap-y-1 px-5 py-2.5 text-xs text-soft max-[960px]:hidden"
    >
      {meanings.map(([outcome, words]) => (
        <li key={outcome} className="flex items-center gap-1.5">
          <RoadMark mark={{ outcome, contested: false }} size={12} />
          {words}
        </li>
      ))}
      <li className="flex items-center gap-1.5">
        <RoadMark mark={{ outcome: "denied", contested: true }} size={12} />
        contested
      </li>
      <li>empty: no flow</li>
    </ul>
  );
}
