import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { commentOnDraft, resolveComment } from "../../api/drafts";
import type { DraftReview } from "../../api/drafts";
import { Button } from "../../parts/fields";
import { moment } from "../../parts/wording";

/** What people say about a draft, or about an object of it. */
export function Comments({ d }: { d: DraftReview }) {
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const again = () => queries.invalidateQueries({ queryKey: ["drafts", d.id] });
  const say = useMutation({
    mutationFn: () => commentOnDraft(d.id, "", text),
    onSuccess: () => {
      setText("");
      return again();
    },
  });
  const resolve = useMutation({ mutationFn: (id: number) => resolveComment(d.id, id), onSuccess: again });
  return (
    <>
      <ul aria-label="Comments">
        {d.comments.map((c) => (
          <li key={c.id} className="border-t border-line py-1.5">
            <p className="flex items-baseline gap-2 text-[13px] text-soft">
              <span className="flex-1">
                {c.author}, {moment(c.at)}
                {c.about && `, on ${c.about}`}
              </span>
              {c.resolved ? (
                `resolved by ${c.resolved}`
              ) : (
                <button className="text-accent hover:underline" onClick={() => resolve.mutate(c.id)}>
                  Resolve
                </button>
              )}
            </p>
            <p className={c.resolved ? "text-soft" : ""}>{c.text}</p>
          </li>
        ))}
      </ul>
      <form
        className="flex gap-2 pt-1 print:hidden"
        onSubmit={(event) => {
          event.preventDefault();
          say.mutate();
        }}
      >
        <input
          aria-label="Comment"
          placeholder="Write a comment"
          value={text}
          onChange={(e) => setText(e.target.value)}
          className="min-w-0 flex-1 rounded border border-line bg-sheet px-2.5 py-1"
        />
        <Button type="submit" disabled={say.isPending || text.trim() === ""}>
          Comment
        </Button>
      </form>
      {say.error && <p className="text-denied">{say.error.message}</p>}
    </>
  );
}
