import { useQuery } from "@tanstack/react-query";
import { useLocation } from "react-router";
import { ApiProblem } from "../api/client";
import { answerQuery } from "../api/queries";
import { Marks } from "../parts/marks/RoadMark";
import { Sentence } from "../parts/Sentence";
import { selecting } from "./selection";
import { isAsked, questionOf, useUrlState } from "./urlState";

/** The answer in one sentence, under the question. */
export function AnswerLine() {
  const { params, change } = useUrlState();
  const onLanes = useLocation().pathname === "/lanes";
  const asked = questionOf(params);
  const answer = useQuery(answerQuery(asked));
  if (!isAsked(asked)) return null;
  if (answer.error) return <Issue error={answer.error} />;
  if (!answer.data) return <p className="px-5 py-2.5 text-soft">Evaluating…</p>;
  return (
    <div
      className="flex items-center gap-4 border-b border-line px-5 py-2.5"
      aria-live="polite"
      data-testid="answer"
    >
      <Marks marks={answer.data.marks} size={22} />
      <p className="min-w-0 flex-1 font-serif text-[17px] leading-snug">
        <Sentence tokens={answer.data.sentence} />
      </p>
      {params.has("row") && !onLanes && (
        <button
          className="rounded border border-line px-2.5 py-1 text-sm hover:border-accent"
          onClick={() => change({ row: null, col: null, at: null })}
        >
          Show the path
        </button>
      )}
      {onLanes && (
        <button
          className="flex-none rounded border border-line px-2.5 py-1 text-sm hover:border-accent"
          onClick={() =>
            change({
              road: params.has("road") ? null : "shown",
              row: null,
              col: null,
              at: null,
              ...selecting({ kind: "nothing" }),
            })
          }
        >
          {params.has("road") ? "Hide" : "Show"} the path
        </button>
      )}
      <button
        className="rounded px-2 py-1 text-sm text-soft hover:text-ink"
        onClick={() => change({ from: null, to: null, on: null, at: null })}
      >
        Clear
      </button>
    </div>
  );
}

function Issue({ error }: { error: Error }) {
  const fields = error instanceof ApiProblem ? (error.problem.problems ?? []) : [];
  return (
    <div
      id="question-problem"
      role="alert"
      className="border-b border-line px-5 py-2.5 font-serif text-[17px]"
    >
      {fields.length === 0 && <p>{error.message}</p>}
      {fields.map((p) => (
        <p key={p.at}>
          <span className="text-soft italic">{p.at}</span> <span className="text-denied">{p.message}</span>
          {p.fix ? ` — ${p.fix}` : ""}
        </p>
      ))}
    </div>
  );
}
