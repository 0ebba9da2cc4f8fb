import { counted } from "../../parts/wording";
import { KindGlyph } from "./Glyphs";
import { dragged } from "./plane/CellView";
import type { Network } from "./estate";
import { useSelection } from "../../frame/selection";

/** How many networks the tray shows before it counts the rest. */
const most = 12;

/** Networks that no segment holds, waiting for a place. */
export function Tray({ networks }: { networks: Network[] }) {
  const { select } = useSelection();
  if (networks.length === 0) return null;
  return (
    <div className="flex flex-wrap items-center gap-2 border-y border-line bg-wash px-5 py-1.5 text-[13px]">
      <span className="text-soft">In no segment</span>
      {networks.slice(0, most).map((n) => (
        <button
          key={n.name}
          draggable
          onDragStart={(event) => event.dataTransfer.setData(dragged, n.name)}
          onClick={() => select({ kind: "network", name: n.name })}
          data-tray={n.name}
          className="flex items-center gap-1.5 rounded-full border border-dashed border-soft bg-paper px-2.5 leading-6 hover:border-accent"
        >
          <KindGlyph kind={n.kind} />
          {n.name}
          <span className="text-soft">{n.subnets[0]?.prefix}</span>
        </button>
      ))}
      {networks.length > most && (
        <span className="text-soft">and {counted(networks.length - most, "more", "more")}</span>
      )}
      <span className="ml-auto text-soft">drag it to a segment and a hub, or click it</span>
    </div>
  );
}
