import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";

const shortcuts = [
  ["/", "ask a question"],
  ["Ctrl K", "add, open or go to anything, by name"],
  ["Alt ↑ ↓", "in the question: earlier questions"],
  ["↑ ↓ ← →", "on the board: move from cell to cell"],
  ["Enter", "on the board: open the cell"],
  ["o", "on the board: open or close the row's segment"],
  ["Esc", "close the cell"],
  ["↑ ↓ → ←", "in Estate: move, open and close rows"],
  ["Enter", "in Estate: details of the row"],
  ["↑ ↓ ← →", "in Lanes: move from place to place; or drag"],
  ["Enter", "in Lanes: routes of a segment at a hub"],
  ["+ −", "in Lanes: more or less detail for each network"],
  ["Alt ↑ ↓", "in Rules: move a rule up or down"],
  ["?", "this list"],
];

/** The list of shortcuts; the question mark opens it. */
export function Shortcuts() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key !== "?" || (event.target as HTMLElement).closest("input, textarea")) return;
      event.preventDefault();
      setOpen(true);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="ml-auto hover:text-ink">? shortcuts</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/25" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 z-50 w-[26rem] -translate-1/2 rounded-lg border border-line bg-sheet p-6 shadow-xl"
        >
          <Dialog.Title className="font-serif text-[18px] font-semibold">Shortcuts</Dialog.Title>
          <dl className="mt-3 grid grid-cols-[7rem_1fr] gap-y-1.5">
            {shortcuts.map(([key, what]) => (
              <div key={key} className="contents">
                <dt className="font-mono text-[13px]">{key}</dt>
                <dd className="text-soft">{what}</dd>
              </div>
            ))}
          </dl>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
