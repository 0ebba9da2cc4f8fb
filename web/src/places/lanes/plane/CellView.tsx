import { Hourglass } from "lucide-react";
import { memo } from "react";
import type { DragEvent } from "react";
import { KindGlyph, StateGlyph } from "../Glyphs";
import { attachState } from "../estate";
import { cellKey } from "./layout";
import type { Chip, Plan, At } from "./layout";
import type { Told } from "../estate";
import type { Unforced } from "../force";
import { isDim, litKey } from "../lit";
import type { Lit } from "../lit";

type Props = {
  plan: Plan;
  told: Told;
  unforced: Unforced;
  lane: number;
  column: number;
  lit: string;
  scope: Lit | null;
  onOpen: (at: At) => void;
  onNetwork: (name: string) => void;
  onDrop: (network: string, at: At) => void;
};

/** The kind of data that a network is dragged as. */
export const dragged = "application/x-bivium-network";

/** A place where a lane and a column meet: what is attached there, by name or in number. */
export const CellView = memo(function CellView(props: Props) {
  const { plan, told, unforced, lane, column, lit, scope, onOpen, onNetwork, onDrop } = props;
  const at = { lane, column };
  const cell = plan.cells.get(cellKey(lane, column));
  const row = plan.lanes[lane];
  const { left, width } = plan.columns[column] ?? { left: 0, width: 0 };
  if (!row) return null;
  const hub = plan.columns[column]?.hub;
  const drop = {
    onDragOver: (event: DragEvent) => {
      if (event.dataTransfer.types.includes(dragged) && hub && !row.internet) event.preventDefault();
    },
    onDrop: (event: DragEvent) => {
      event.preventDefault();
      onDrop(event.dataTransfer.getData(dragged), at);
    },
  };
  return (
    <div
      {...drop}
      data-cell={`${row.name} ${hub?.name ?? ""}`}
      className="absolute"
      style={{ left, top: row.top, width, height: row.height }}
      onDoubleClick={() => onOpen(at)}
    >
      {!row.internet && hub && (
        <button
          tabIndex={-1}
          aria-label={`Routes of ${row.name} at ${hub.name}`}
          title={`Routes of ${row.name} at ${hub.name}`}
          onClick={() => onOpen(at)}
          className="absolute top-0 left-0 w-full rounded hover:bg-accent/8"
          style={{ height: plan.detail === "far" ? row.height : plan.sizes.rail + 8 }}
        />
      )}
      {plan.detail === "far" && cell && cell.count > 0 && (
        <span
          className={`pointer-events-none absolute inset-x-0 text-center text-xs leading-4 ${cell.unhealthy > 0 ? "font-semibold text-denied" : ""}`}
          style={{ top: plan.sizes.rail - 8 }}
        >
          <span className={`px-1 ${lane % 2 === 0 ? "bg-sheet" : "bg-paper"}`}>{cell.count}</span>
        </span>
      )}
      {cell?.chips.map((chip) => (
        <ChipView
          key={chip.network.name}
          plan={plan}
          told={told}
          unforced={unforced.networks.get(chip.network.name)}
          chip={chip}
          lane={row.name}
          left={chip.x - left}
          top={chip.y - row.top}
          lit={lit}
          scope={scope}
          onNetwork={onNetwork}
        />
      ))}
      {cell && cell.folded > 0 && plan.sizes.chip > 0 && (
        <button
          tabIndex={-1}
          onClick={() => onOpen(at)}
          className="absolute truncate rounded px-1.5 text-left text-[13px] leading-5 text-soft hover:text-accent"
          style={{
            left: 22,
            top: row.rail - row.top + plan.sizes.below + (cell.rows - 1) * plan.sizes.chip,
            width: width - 26,
          }}
        >
          {cell.chips.length > 0 ? `and ${cell.folded} more` : `${cell.folded} networks`}
          {cell.foldedUnhealthy > 0 && (
            <span className="text-denied">, {cell.foldedUnhealthy} unhealthy</span>
          )}
        </button>
      )}
      {row.internet &&
        plan.detail !== "far" &&
        cell?.exits.map((x, i) => (
          <span
            key={x.name}
            className={`absolute truncate text-[13px] leading-5 ${x.state === "up" ? "" : "text-denied"}`}
            style={{
              left: 26,
              top: row.rail - row.top + 8 + i * plan.sizes.chip,
              width: width - 30,
            }}
            title={`exit ${x.name} of ${x.segments.join(", ")}`}
          >
            {x.name}
            {x.state !== "up" && " down"}
            {x.published.length > 0 && (
              <span className="text-soft"> · in: {x.published.slice(0, 2).join(", ")}</span>
            )}
          </span>
        ))}
    </div>
  );
});

type ChipProps = {
  plan: Plan;
  told: Told;
  unforced: string | undefined;
  chip: Chip;
  lane: string;
  left: number;
  top: number;
  lit: string;
  scope: Lit | null;
  onNetwork: (name: string) => void;
};

function ChipView({ plan, told, unforced, chip, lane, left, top, lit, scope, onNetwork }: ChipProps) {
  const { network, attach } = chip;
  const { state, why } = attachState(told, network, attach);
  const outside = network.subnets.find((s) => s.segment === lane && s.outside !== "")?.outside;
  const concerned = scope?.networks.has(litKey(lane, network.name));
  const dear = network.at.length > 1 && attach && attach.cost > Math.min(...network.at.map((a) => a.cost));
  return (
    <button
      draggable
      onDragStart={(event) =>
        event.dataTransfer.setData(dragged, `${network.name} ${lane} ${attach?.hub ?? ""}`)
      }
      data-chip={network.name}
      data-state={state}
      data-lit={concerned || undefined}
      onClick={() => onNetwork(network.name)}
      title={`${network.name}, ${network.kind}${outside ? `, translated to ${outside}` : ""}${attach ? `, cost ${attach.cost}` : ""}${state === "up" ? "" : `, ${state}: ${why}`}${unforced ? `. ${unforced}` : ""}`}
      className={`absolute flex items-center gap-1.5 rounded-full border px-2 text-[13px] leading-5 hover:border-accent ${
        state === "up" ? "border-line bg-paper" : "border-dashed border-denied bg-paper"
      } ${lit === network.name ? "ring-2 ring-accent" : ""} ${concerned ? "ring-2 ring-ink" : ""} ${isDim(scope, lane, network.name) ? "opacity-35" : ""} ${dear ? "text-soft" : ""}`}
      style={{ left, top, maxWidth: chip.width, height: plan.sizes.chip - 4 }}
    >
      <span className="text-soft">
        <KindGlyph kind={network.kind} />
      </span>
      <span className="truncate">{network.name}</span>
      {attach && attach.cost > 1 && <span className="text-xs text-soft">{attach.cost}</span>}
      {attach && attach.waiting > 0 && (
        <span className="rounded-full bg-wash px-1.5 text-[11px] leading-4 whitespace-nowrap">
          {attach.waiting} waiting
        </span>
      )}
      {outside && <span className="rounded-full bg-wash px-1.5 text-[11px] leading-4">translated</span>}
      {unforced && <Hourglass size={11} role="img" aria-label={unforced} className="flex-none text-denied" />}
      {network.gone && <span className="text-xs text-denied">removed</span>}
      <StateGlyph state={state} />
    </button>
  );
}
