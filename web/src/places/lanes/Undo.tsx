import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { estateQuery, everything, postUndo } from "../../api/queries";

/** Takes the last edit back, as long as the estate is still what it was then. */
export function Undo() {
  const queries = useQueryClient();
  const estate = useQuery(estateQuery);
  const undo = useMutation({
    mutationFn: () => postUndo(estate.data?.revision ?? 0),
    onSuccess: () => queries.invalidateQueries({ queryKey: everything }),
  });
  return (
    <span className="flex flex-none items-center gap-2">
      {undo.error && (
        <span role="alert" className="text-soft">
          nothing to undo
        </span>
      )}
      <button
        onClick={() => undo.mutate()}
        disabled={undo.isPending || !estate.data || estate.data.revision < 2}
        title="Take back the edit that made this revision"
        className="rounded border border-line px-2.5 py-0.5 hover:border-accent disabled:opacity-40"
      >
        Undo
      </button>
    </span>
  );
}
