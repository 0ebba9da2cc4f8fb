import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { estateQuery, everything, postDemo, tagsQuery } from "../../api/queries";
import { stepsOf } from "./steps";

/** Where an empty estate begins, and how far one that has begun is. */
export function BeginPlace() {
  const estate = useQuery(estateQuery);
  const tags = useQuery(tagsQuery);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const demo = useMutation({
    mutationFn: postDemo,
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: everything });
      await navigate("/board");
    },
  });
  if (!estate.data) return null;
  const { empty } = estate.data;
  const next = stepsOf(estate.data, tags.data).find((s) => !s.done && s.to);
  return (
    <section aria-label="Begin" className="mx-auto h-full max-w-[60rem] overflow-y-auto px-7 py-10">
      <h1 className="font-serif text-[26px] font-semibold">{empty ? "No estate yet" : "Progress"}</h1>
      <p className="max-w-[44rem] pt-1 text-soft">
        {empty
          ? "Bivium works on an estate: your networks, their workloads, and the flows that should pass between them. Start in one of three ways."
          : "The steps of the work. Repeat each whenever something changes."}
      </p>
      {empty && (
        <ul className="grid grid-cols-3 gap-4 pt-6 max-[960px]:grid-cols-1">
          <Way
            title="Connect an account"
            what="Sync what your clouds and sites have. Nothing is changed there."
            to="/estate?connect=1"
          />
          <Way
            title="Import a document"
            what="Start from an estate document, and review its faults first."
            to="/estate?import=1"
          />
          <li>
            <button
              disabled={demo.isPending}
              onClick={() => demo.mutate(estate.data.revision)}
              className={wayShape}
            >
              <span className="block font-serif text-[18px] font-semibold">Open the demo</span>
              <span className="block pt-1 text-soft">
                Grayshoal Wind: a fictional company with wind farms, four segments, and some problems to find.
              </span>
            </button>
            {demo.error && <p className="pt-1 text-denied">{demo.error.message}</p>}
          </li>
        </ul>
      )}
      <h2 className="pt-9 pb-2 font-serif text-[18px] font-semibold">Steps</h2>
      <ol className="grid grid-cols-[2rem_7rem_1fr] items-baseline gap-y-2">
        {stepsOf(estate.data, tags.data).map((step, i) => (
          <li key={step.title} className="contents" data-done={step.done}>
            <span className={`font-mono ${step.done ? "text-accent" : "text-soft"}`}>
              {step.done ? "✓" : i + 1}
            </span>
            <span className={step === next || step.title === next?.title ? "font-semibold" : ""}>
              {step.to ? (
                <Link to={step.to} className="hover:text-accent hover:underline">
                  {step.title}
                </Link>
              ) : (
                step.title
              )}
            </span>
            <span className="text-soft">{step.what}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}

const wayShape =
  "block h-full w-full rounded-lg border border-line bg-sheet p-5 text-left hover:border-accent disabled:opacity-50";

function Way({ title, what, to }: { title: string; what: string; to: string }) {
  return (
    <li>
      <Link to={to} className={wayShape}>
        <span className="block font-serif text-[18px] font-semibold">{title}</span>
        <span className="block pt-1 text-soft">{what}</span>
      </Link>
    </li>
  );
}
