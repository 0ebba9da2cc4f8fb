import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import type { Schemas } from "../api/client";
import { answerQuery, cellQuery, roadQuery } from "../api/queries";
import { isAsked, questionOf, useUrlState } from "../frame/urlState";
import { RoadMark } from "../parts/marks/RoadMark";
import { Sentence } from "../parts/Sentence";
import { counted, nodeName, serviceWords, reasons } from "../parts/wording";
import { Before, useChangedCells } from "../places/board/Changed";
import { ListsDo, useIsObserved, useListCells } from "../places/board/ListMarks";
import { Road } from "./Road";
import { expectationOfCell } from "./expect";
import { SinceWhen } from "./SinceWhen";
import { TryIt } from "./TryIt";
import { ExpectButton, Suggestions } from "./Suggestions";

/** What opens beside a place: a cell or an answer, service by service, and the road of one flow. */
export function Panel() {
  const { params } = useUrlState();
  const row = params.get("row");
  const col = params.get("col");
  if (row && col) return <CellPanel row={row} col={col} />;
  if (isAsked(questionOf(params))) return <AnswerPanel />;
  return null;
}

function Shell({ children }: { children: React.ReactNode }) {
  return (
    <aside className="h-full w-[430px] flex-none overflow-y-auto border-l border-line bg-sheet max-[960px]:absolute max-[960px]:inset-0 max-[960px]:z-20 max-[960px]:w-full 2xl:w-[540px]">
      {children}
    </aside>
  );
}

function CellPanel({ row, col }: { row: string; col: string }) {
  const { params, change } = useUrlState();
  const cell = useQuery(cellQuery(row, col));
  const open = (params.get("open") ?? "").split(",").filter(Boolean);
  const lists = useListCells(open, useIsObserved() && params.get("lists") === "shown");
  const changed = useChangedCells();
  return (
    <Shell>
      <header className="flex items-start gap-2 px-5 pt-3 pb-2">
        <h2 className="flex-1 font-serif text-[17px] leading-snug font-semibold">
          {nodeName(row)} <span className="font-normal text-soft">to</span> {nodeName(col)}
        </h2>
        {cell.data && cell.data.lines.length > 0 && (
          <ExpectButton
            expectation={() =>
              expectationOfCell(
                row,
                col,
                cell.data.lines.flatMap((line) => line.parts.map((part) => part.verdict)),
              )
            }
          />
        )}
        <button
          aria-label="Close"
          className="pt-1 text-soft hover:text-ink"
          onClick={() => change({ row: null, col: null, at: null })}
        >
          <X size={17} />
        </button>
      </header>
      <ListsDo cell={lists.data?.cells.find((c) => c.row === row && c.col === col)} />
      {changed && <Before cells={changed} row={row} col={col} />}
      {cell.error && <p className="px-5 text-denied">{cell.error.message}</p>}
      {cell.data && (cell.data.lines.length > 0 ? <Lines lines={cell.data.lines} /> : <NoFlow />)}
    </Shell>
  );
}

function NoFlow() {
  return <p className="px-5 text-soft">There are no flows between the two: neither can address the other.</p>;
}

function AnswerPanel() {
  const { params } = useUrlState();
  const answer = useQuery(answerQuery(questionOf(params)));
  if (!answer.data) return null;
  const [line] = answer.data.lines;
  if (answer.data.lines.length === 1 && line?.parts.length === 1) {
    return (
      <Shell>
        <Road trace={answer.data.trace} />
        <TryIt key={`try ${JSON.stringify(questionOf(params))}`} asked={questionOf(params)} />
        <SinceWhen key={JSON.stringify(questionOf(params))} asked={questionOf(params)} />
        <Suggestions asked={questionOf(params)} trace={answer.data.trace} />
      </Shell>
    );
  }
  return (
    <Shell>
      <Lines lines={answer.data.lines} />
    </Shell>
  );
}

/** Services that fare alike, one by one; the selected one shows its road. */
function Lines({ lines }: { lines: Schemas["Line"][] }) {
  const { params, change } = useUrlState();
  const at = params.get("at") ?? "0.0";
  const [l, p] = at.split(".").map(Number);
  const selected = lines[l ?? 0]?.parts[p ?? 0] ?? lines[0]?.parts[0];
  return (
    <>
      <ul className="border-y border-line" data-testid="lines">
        {lines.map((line, i) => (
          <li key={i} className="border-b border-line/60 px-5 py-1.5 last:border-0">
            <p className="flex items-baseline gap-2">
              <span className="font-mono text-[13px] break-words">{serviceWords(line.services)}</span>
            </p>
            {line.parts.map((part, k) => (
              <button
                key={k}
                aria-pressed={part === selected}
                onClick={() => change({ at: `${i}.${k}` }, true)}
                className="-mx-2 flex w-[calc(100%+1rem)] items-start gap-2.5 rounded px-2 py-0.5 text-left hover:bg-wash aria-pressed:bg-wash"
              >
                <span className="pt-[2px]">
                  <RoadMark
                    mark={{ outcome: part.verdict.outcome, contested: part.verdict.contested }}
                    size={13}
                  />
                </span>
                <span className="min-w-0 flex-1 text-[13px] leading-5">{settledBy(part)}</span>
                <span
                  className="text-xs leading-5 text-soft"
                  title={part.pairs && `${part.pairs} pairs of addresses`}
                >
                  {reach(part)}
                </span>
              </button>
            ))}
            {line.more > 0 && (
              <p className="pl-6 text-xs text-soft">
                and {counted(line.more, "verdict")} more, of fewer flows: ask about groups to see them
              </p>
            )}
          </li>
        ))}
      </ul>
      {selected && <WitnessRoad witness={selected.witness} />}
    </>
  );
}

/** Who settled it, in a few words. */
function settledBy(part: Schemas["Part"]) {
  const v = part.verdict;
  if (v.by.length > 0) {
    const pools = v.pools.length > 0 && v.outcome === "inspected" ? `${v.pools.join(", ")} · ` : "";
    return `${pools}${v.reason === "policy" ? "" : `${v.reason} `}${v.by.join(", ")}${v.contested ? " · contested" : ""}`;
  }
  return <Sentence tokens={[{ text: reasons[v.reason] + (v.contested ? " · contested" : "") }]} />;
}

function reach(part: Schemas["Part"]): string {
  if (part.from > 0 && part.to > 0) return `${part.from} → ${part.to} workloads`;
  if (part.from > 0) return counted(part.from, "workload");
  if (part.to > 0) return `to ${counted(part.to, "workload")}`;
  return "no workload";
}

function WitnessRoad({ witness }: { witness: Schemas["Witness"] }) {
  const road = useQuery(roadQuery(witness));
  if (road.error) return <p className="px-5 py-3 text-denied">{road.error.message}</p>;
  if (!road.data) return null;
  return (
    <>
      <p className="px-5 pt-3 text-xs text-soft">Example flow</p>
      <Road trace={road.data.trace} sentence={road.data.sentence} />
      <TryIt key={`try ${JSON.stringify(witness)}`} asked={witness} />
      <SinceWhen key={`since ${JSON.stringify(witness)}`} asked={witness} />
      <Suggestions key={JSON.stringify(witness)} asked={witness} trace={road.data.trace} />
    </>
  );
}
