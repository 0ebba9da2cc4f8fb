import { useCombobox } from "downshift";
import { useLayoutEffect, useState } from "react";
import type { ChangeEvent, KeyboardEvent, Ref } from "react";

export interface Choice {
  text: string;
  kind: string;
  hint: string;
}

interface Props {
  id: string;
  label: string;
  value: string;
  choices: Choice[];
  placeholder?: string;
  invalid?: boolean;
  describedBy?: string;
  className?: string;
  inputRef?: Ref<HTMLInputElement>;
  onType: (text: string) => void;
  /** Somebody chose a proposal, or pressed Enter on what is typed. */
  onCommit: (text: string) => void;
  onKey?: (event: KeyboardEvent<HTMLInputElement>) => void;
}

/** A text field that proposes; what is typed counts even if it is no proposal. */
export function Combobox(p: Props) {
  const [touched, setTouched] = useState(false);
  const box = useCombobox<Choice>({
    id: p.id,
    items: p.choices,
    inputValue: p.value,
    selectedItem: null,
    itemToString: (c) => c?.text ?? "",
    onSelectedItemChange: ({ selectedItem }) => {
      if (selectedItem) p.onCommit(selectedItem.text);
    },
    stateReducer: (_, { type, changes }) =>
      // Leaving the field does not choose what happens to be highlighted.
      type === useCombobox.stateChangeTypes.InputBlur ? { ...changes, selectedItem: null } : changes,
  });
  const open = box.isOpen && touched && p.value !== "" && p.choices.length > 0;
  useLayoutEffect(() => {
    const list = open ? document.getElementById(`${p.id}-menu`) : null;
    if (list) keepInside(list);
  }, [open, p.id, p.choices]);
  return (
    <span className={`relative ${p.className ?? ""}`}>
      <input
        {...box.getInputProps({
          ref: p.inputRef,
          "aria-label": p.label,
          "aria-labelledby": undefined,
          "aria-invalid": p.invalid || undefined,
          "aria-describedby": p.describedBy,
          placeholder: p.placeholder,
          spellCheck: false,
          autoCapitalize: "off",
          onFocus: () => setTouched(false),
          // Taken from the event itself: what is reported later lags behind fast typing.
          onChange: (event: ChangeEvent<HTMLInputElement>) => {
            setTouched(true);
            p.onType(event.target.value);
          },
          onKeyDown: (event) => {
            if (event.key === "Enter") {
              // Settled here and at once: what comes later would lag behind
              // fast typing, and the next letter would land in this field.
              event.preventDefault();
              Object.assign(event.nativeEvent, { preventDownshiftDefault: true });
              const chosen = open ? p.choices[box.highlightedIndex] : undefined;
              box.closeMenu();
              p.onCommit(chosen?.text ?? p.value);
            }
            p.onKey?.(event);
          },
        })}
        className="w-full min-w-0 bg-transparent outline-none placeholder:text-soft/70 aria-invalid:text-denied"
      />
      <ul
        {...box.getMenuProps({
          "aria-label": `${p.label}, proposals`,
          "aria-labelledby": undefined,
        })}
        className={
          open
            ? "absolute top-full left-0 z-30 mt-2 max-h-80 w-max max-w-[26rem] min-w-full overflow-auto rounded-md border border-line bg-sheet py-1 font-sans text-sm font-normal shadow-lg"
            : "hidden"
        }
      >
        {open &&
          p.choices.map((c, i) => (
            <li
              key={c.kind + c.text}
              {...box.getItemProps({ item: c, index: i })}
              className="flex items-baseline gap-3 px-3 py-1 data-[on=true]:bg-wash"
              data-on={box.highlightedIndex === i}
            >
              <span className="font-semibold">{c.text}</span>
              <span className="flex-1 truncate text-xs text-soft">{c.hint}</span>
              <span className="text-xs text-soft">{c.kind}</span>
            </li>
          ))}
      </ul>
    </span>
  );
}

/** Moves a list to the left where it would reach beyond the column that it is in. */
function keepInside(list: HTMLElement) {
  list.style.left = "0px";
  const column = list.closest(".overflow-y-auto") ?? document.documentElement;
  const room = column.getBoundingClientRect().right - list.getBoundingClientRect().right - 12;
  if (room < 0) list.style.left = `${room}px`;
}
