import { X } from "lucide-react";
import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

interface Props {
  title: string;
  wide?: boolean;
  onClose: () => void;
  children: ReactNode;
}

/** A sheet that lies over a place until it is done with. */
export function Overlay({ title, wide, onClose, children }: Props) {
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/25" />
        <Dialog.Content
          aria-describedby={undefined}
          onOpenAutoFocus={(event) => {
            const first = (event.currentTarget as Element).querySelector<HTMLElement>(
              "input:not([type=radio])",
            );
            if (!first) return;
            event.preventDefault();
            first.focus();
          }}
          className={`fixed top-1/2 left-1/2 z-50 flex max-h-[88vh] max-w-[94vw] -translate-1/2 flex-col rounded-lg border border-line bg-sheet shadow-xl ${wide ? "w-[56rem]" : "w-[32rem]"}`}
        >
          <div className="flex items-center px-6 pt-5 pb-2">
            <Dialog.Title className="flex-1 font-serif text-[19px] font-semibold">{title}</Dialog.Title>
            <Dialog.Close aria-label="Close" className="text-soft hover:text-ink">
              <X size={17} />
            </Dialog.Close>
          </div>
          <div className="min-h-0 overflow-y-auto px-6 pb-6">{children}</div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
