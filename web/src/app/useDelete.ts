import { useCallback } from "react";
import { ask } from "../api/client";
import type { BinItem } from "../api/types";
import { useAct } from "./useAct";
import { useNotice } from "./useNotice";

/** Puts things into the bin and says so, with the way to take them out again. */
export function useDelete() {
  const act = useAct();
  const notice = useNotice();
  return useCallback(
    async (items: BinItem[], what: string) => {
      const done = await act(() => ask("POST", "/api/bin", { items }).then(() => true));
      if (done)
        notice(
          `${what}: in the bin`,
          "Undo",
          () => void act(() => ask("POST", "/api/bin/restore", { items })),
        );
      return done === true;
    },
    [act, notice],
  );
}
