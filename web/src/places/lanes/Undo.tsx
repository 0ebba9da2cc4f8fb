import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { everything, postUndo, undoQuery } from "../../api/queries";
import { lastStepWords } from "../../parts/wording";

/** Takes the last edit back, as long as the estate is still what it was then. */
export function Undo() {
  const queries = useQueryClient();
  const last = useQuery(undoQuery).data;
  const undo = useMutation({
    mutationFn: () => postUndo(last?.revision ?? 0),
    onSettled: () => queries.invalidateQueries({ queryKey: everything }),
  });
  const able = last !== undefined && last.why === "" && !undo.isPending;
  const words = last && lastStepWords(last);
  return (
    <span className="flex flex-none items-center gap-2">
      {undo.error && (
        <span role="alert" className="text-soft">
          not undone: {undo.error.message}
        </span>
      )}
      <button
        onClick={() => able && undo.mutate()}
        aria-disabled={!able}
        title={words}
        aria-description={words}
        className={`rounded border border-line px-2.5 py-0.5 ${able ? "hover:border-accent" : "opacity-40"}`}
      >
        Undo
      </button>
    </span>
  );
}
