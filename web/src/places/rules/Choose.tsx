import { ChevronDown } from "lucide-react";
import { Select } from "radix-ui";

interface Props {
  label: string;
  value: string;
  values: string[];
  placeholder?: string;
  bold?: boolean;
  small?: boolean;
  onChange: (value: string) => void;
}

/** A word in a sentence that is one of a few. */
export function Choose({ label, value, values, placeholder, bold, small, onChange }: Props) {
  return (
    <Select.Root value={value} onValueChange={onChange}>
      <Select.Trigger
        aria-label={label}
        className={`inline-flex min-w-0 items-center gap-1 rounded-md border border-line bg-sheet px-2 hover:border-accent data-placeholder:text-soft ${small ? "max-w-28 text-[13px] leading-6" : "leading-7"} ${bold ? "font-semibold" : ""}`}
      >
        <span className="min-w-0 truncate">
          <Select.Value placeholder={placeholder} />
        </span>
        <ChevronDown size={13} className="flex-none text-soft" />
      </Select.Trigger>
      <Select.Portal>
        <Select.Content
          position="popper"
          sideOffset={4}
          className="z-60 max-h-96 rounded-md border border-line bg-sheet py-1 shadow-lg"
        >
          <Select.Viewport>
            {values.map((v) => (
              <Select.Item
                key={v}
                value={v}
                className="cursor-default px-3 py-1 outline-none data-highlighted:bg-wash data-[state=checked]:font-semibold"
              >
                <Select.ItemText>{v}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}
