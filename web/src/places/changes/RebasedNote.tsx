import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { counted } from "../../parts/wording";

/** Says that a draft does something else than before, because the applied estate changed below it. */
export function RebasedNote({ rebased: r }: { rebased: Schemas["Rebased"] }) {
  return (
    <section aria-label="Rebased" className="my-2 border-l-[3px] border-inspected bg-inspected/8 px-3 py-2">
      <h2 className="font-semibold">
        This draft has another effect since{" "}
        <Link className="text-accent underline" to={`/changes/history/${r.from}/${r.to}`}>
          revision {r.to} was applied
        </Link>
      </h2>
      <List title="It now also changes" list={r.new} />
      <List title="It no longer changes" list={r.gone} />
      {r.hidden > 0 && (
        <p className="text-soft">and {counted(r.hidden, "more set of flows", "more sets of flows")}</p>
      )}
    </section>
  );
}

function List({ title, list }: { title: string; list: string[] }) {
  if (list.length === 0) return null;
  return (
    <>
      <h3 className="pt-1 text-[13px] text-soft">{title}</h3>
      <ul className="text-[13px]">
        {list.map((words) => (
          <li key={words}>{words}</li>
        ))}
      </ul>
    </>
  );
}
