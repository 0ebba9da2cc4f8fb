import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { Link, NavLink, useNavigate } from "react-router";
import { beginDraft, draftsQuery } from "../../api/drafts";
import type { DraftSummary } from "../../api/drafts";
import { meQuery } from "../../api/people";
import { lookAt, useWhere } from "../../frame/where";
import { stateWords } from "../../frame/WhereStrip";
import { Button } from "../../parts/fields";
import { counted, moment } from "../../parts/wording";

/** The drafts: what people prepare before it becomes the estate. */
export function ChangesPlace() {
  const drafts = useQuery(draftsQuery);
  const me = useQuery(meQuery);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const begin = useMutation({
    mutationFn: () => beginDraft(),
    onSuccess: async (d) => {
      await queries.invalidateQueries({ queryKey: ["drafts"] });
      lookAt({ kind: "draft", id: d.id });
      void navigate(`/changes/${d.id}`);
    },
  });
  const list = drafts.data?.drafts ?? [];
  const open = list.filter((d) => d.state !== "applied" && d.state !== "discarded");
  const closed = list.filter((d) => d.state === "applied" || d.state === "discarded");
  const writes = me.data?.roles.includes("engineer");
  return (
    <section aria-label="Changes" className="h-full overflow-y-auto px-7 pt-4 pb-8">
      <Tabs />
      <div className="flex max-w-[64rem] items-center gap-4 pt-4 pb-2">
        <p className="flex-1 text-soft">
          Edits gather in a draft. Nothing else changes until the draft is applied.
        </p>
        {writes && (
          <Button disabled={begin.isPending} onClick={() => begin.mutate()}>
            <Plus size={14} className="mr-1 inline" />
            Begin draft
          </Button>
        )}
      </div>
      {drafts.error && <p className="text-denied">{drafts.error.message}</p>}
      {begin.error && <p className="text-denied">{begin.error.message}</p>}
      {drafts.data && (
        <Drafts list={open} empty="There are no open drafts. The first edit that you save begins one." />
      )}
      {closed.length > 0 && (
        <>
          <h2 className="pt-7 pb-1 font-serif text-[17px] font-semibold">Applied and discarded</h2>
          <Drafts list={closed} empty="" />
        </>
      )}
    </section>
  );
}

/** The parts of Changes. */
export function Tabs() {
  return (
    <nav aria-label="Changes" className="flex gap-5 border-b border-line pb-2 print:hidden">
      {[
        ["/changes", "Drafts"],
        ["/changes/plans", "In force"],
        ["/changes/windows", "Windows"],
        ["/changes/history", "History"],
      ].map(([path, name]) => (
        <NavLink
          key={path}
          end={path === "/changes"}
          to={path ?? ""}
          className="text-soft hover:text-ink aria-[current=page]:font-semibold aria-[current=page]:text-ink"
        >
          {name}
        </NavLink>
      ))}
    </nav>
  );
}

function Drafts({ list, empty }: { list: DraftSummary[]; empty: string }) {
  const w = useWhere();
  if (list.length === 0) return <p className="py-2">{empty}</p>;
  return (
    <table className="w-full max-w-[64rem] text-left">
      <thead className="text-[13px] text-soft">
        <tr className="border-b border-line">
          <th className="py-1 pr-4 font-normal">Draft</th>
          <th className="pr-4 font-normal">State</th>
          <th className="pr-4 font-normal">Written by</th>
          <th className="pr-4 font-normal">Steps</th>
          <th className="pr-4 font-normal">Last change</th>
          <th className="font-normal">
            <span className="sr-only">Look at it</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {list.map((d) => (
          <tr key={d.id} className="border-b border-line/60 align-top">
            <td className="py-1.5 pr-4">
              <Link to={`/changes/${d.id}`} className="font-semibold text-accent hover:underline">
                {d.name}
              </Link>
              {d.ticket && <span className="ml-2 text-[13px] text-soft">{d.ticket}</span>}
              {d.reason && <span className="block text-[13px] text-soft">{d.reason}</span>}
            </td>
            <td className="py-1.5 pr-4">
              {stateWords[d.state]}
              {d.revision > 0 && <span className="text-soft"> as revision {d.revision}</span>}
            </td>
            <td className="py-1.5 pr-4">{(d.authors.length > 0 ? d.authors : [d.author]).join("; ")}</td>
            <td className="py-1.5 pr-4">{counted(d.steps, "step")}</td>
            <td className="py-1.5 pr-4 whitespace-nowrap text-soft">{moment(d.changed)}</td>
            <td className="py-1.5 text-right whitespace-nowrap">
              {d.state !== "applied" &&
                d.state !== "discarded" &&
                (w.kind === "draft" && w.id === d.id ? (
                  <span className="text-[13px] text-soft">shown everywhere</span>
                ) : (
                  <button
                    className="text-[13px] text-accent hover:underline"
                    onClick={() => lookAt({ kind: "draft", id: d.id })}
                  >
                    Show this draft everywhere
                  </button>
                ))}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
