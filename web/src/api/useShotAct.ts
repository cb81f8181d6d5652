import { useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { useAct } from "../app/useAct";
import { ask } from "./client";
import type { ShotView } from "./types";

/** Changes a shot by a request that answers with the shot, and shows the answer at once. */
export function useShotAct(shot: number) {
  const act = useAct();
  const queries = useQueryClient();
  return useCallback(
    async (method: "POST" | "PUT" | "PATCH", path: string, body?: unknown) => {
      const next = await act(() => ask<ShotView>(method, `/api/shots/${shot}${path}`, body));
      if (next) queries.setQueryData(["shot", shot], next);
      return next;
    },
    [act, queries, shot],
  );
}
