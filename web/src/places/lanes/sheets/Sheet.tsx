import { X } from "lucide-react";
import type { ReactNode } from "react";
import { useSelection } from "../../../frame/selection";

/** What stands beside the plane: one thing that was picked there. */
export function Sheet({
  title,
  under,
  children,
}: {
  title: ReactNode;
  under?: ReactNode;
  children: ReactNode;
}) {
  const { select } = useSelection();
  const close = () => select({ kind: "nothing" });
  return (
    <aside
      aria-label="Picked"
      onKeyDown={(event) => event.key === "Escape" && close()}
      className="h-full w-[460px] flex-none overflow-y-auto border-l border-line bg-sheet max-[960px]:absolute max-[960px]:inset-0 max-[960px]:z-20 max-[960px]:w-full 2xl:w-[560px]"
    >
      <header className="flex items-start gap-2 px-5 pt-3 pb-1">
        <div className="min-w-0 flex-1">
          <h2 className="truncate font-serif text-[17px] leading-snug font-semibold">{title}</h2>
          {under && <p className="text-[13px] text-soft">{under}</p>}
        </div>
        <button aria-label="Close" className="text-soft hover:text-ink" onClick={close}>
          <X size={17} />
        </button>
      </header>
      <div className="px-5 pb-6">{children}</div>
    </aside>
  );
}

/** A part of a sheet. */
export function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="border-t border-line pt-2.5 pb-3 first:border-0">
      <h3 className="pb-1 text-[13px] font-semibold">{title}</h3>
      {children}
    </section>
  );
}
