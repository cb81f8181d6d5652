import { useState } from "react";
import { arithmetic } from "../app/format";

interface Props {
  value: number;
  onCommit: (v: number) => void;
  /** Shown in percent. */
  share?: boolean;
  whole?: boolean;
  step?: number;
  label: string;
  disabled?: boolean;
}

const written = (v: number, share: boolean) => {
  const x = share ? v * 100 : v;
  return String(Number(x.toPrecision(10)));
};

/** A number that takes arithmetic; arrows nudge, Escape takes back, Enter or leaving sets it. */
export function NumberField({
  value,
  onCommit,
  share = false,
  whole = false,
  step = 1,
  label,
  disabled,
}: Props) {
  const [draft, setDraft] = useState<string | null>(null);
  const bad = draft !== null && arithmetic(draft) === undefined;
  const commit = () => {
    if (draft === null) return;
    const typed = arithmetic(draft);
    setDraft(null);
    if (typed === undefined) return;
    const v = whole ? Math.round(typed) : share ? typed / 100 : typed;
    if (v !== value) onCommit(v);
  };
  return (
    <input
      className={`field${bad ? " bad" : ""}`}
      aria-label={label}
      inputMode="decimal"
      disabled={disabled}
      value={draft ?? written(value, share)}
      onChange={(e) => setDraft(e.target.value)}
      onFocus={(e) => {
        const field = e.target;
        // After the click has placed its caret.
        requestAnimationFrame(() => field.select());
      }}
      onBlur={commit}
      onKeyDown={(e) => {
        // Leaving the field sets it, and lets the bench's keys work again.
        if (e.key === "Enter") e.currentTarget.blur();
        else if (e.key === "Escape") setDraft(null);
        else if (e.key === "ArrowUp" || e.key === "ArrowDown") {
          e.preventDefault();
          const now = arithmetic(draft ?? written(value, share));
          if (now !== undefined) {
            const next = now + (e.key === "ArrowUp" ? 1 : -1) * step * (e.shiftKey ? 10 : 1);
            setDraft(String(Number(next.toPrecision(10))));
          }
        } else return;
        e.stopPropagation();
      }}
    />
  );
}
