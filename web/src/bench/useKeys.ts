import { useEffect } from "react";

/** Calls what a key stands for, unless somebody types or a dialog is open. True: the key was used. */
export function useKeys(act: (e: KeyboardEvent) => boolean) {
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const el = e.target as HTMLElement;
      if (
        e.ctrlKey ||
        e.metaKey ||
        e.altKey ||
        /INPUT|TEXTAREA|SELECT/.test(el.tagName) ||
        el.closest(".ant-modal,.ant-popover,.ant-dropdown")
      )
        return;
      if (act(e)) e.preventDefault();
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  });
}
