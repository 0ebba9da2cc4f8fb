import { ChevronDown } from "lucide-react";
import { Select } from "radix-ui";
import { useState } from "react";

interface Props {
  label: string;
  value: string;
  /** Values with the words for them; an empty value may be one of them. */
  options: readonly (readonly [string, string])[];
  placeholder?: string | undefined;
  className: string;
  onChange: (value: string) => void;
}

/** Stands for the empty value: the list knows none that is empty. */
const none = "\u0000";

/** One of a few, chosen from a list that opens. There may be thousands: they are drawn while it is open. */
export function Pick({ label, value, options, placeholder, className, onChange }: Props) {
  const [open, setOpen] = useState(false);
  const hasEmpty = options.some(([v]) => v === "");
  return (
    <Select.Root
      open={open}
      onOpenChange={setOpen}
      value={value === "" && hasEmpty ? none : value}
      onValueChange={(v) => onChange(v === none ? "" : v)}
    >
      <Select.Trigger
        aria-label={label}
        className={`inline-flex min-w-0 items-center gap-1 border border-line hover:border-accent data-placeholder:text-soft ${className}`}
      >
        <span className="min-w-0 truncate">
          <Select.Value placeholder={placeholder}>
            {options.find(([v]) => v === value)?.[1] ?? value}
          </Select.Value>
        </span>
        <ChevronDown size={13} className="flex-none text-soft" />
      </Select.Trigger>
      <Select.Portal>
        <Select.Content
          position="popper"
          sideOffset={4}
          className="z-60 max-h-96 rounded-md border border-line bg-sheet py-1 text-sm shadow-lg"
        >
          <Select.Viewport>
            {(open ? options : []).map(([v, words]) => (
              <Select.Item
                key={v}
                value={v || none}
                className="cursor-default px-3 py-1 outline-none data-highlighted:bg-wash data-[state=checked]:font-semibold"
              >
                <Select.ItemText>{words}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}
