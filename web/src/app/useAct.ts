import { App } from "antd";
import { useCallback } from "react";
import { Refused } from "../api/client";
import type { Fault } from "../api/types";

/** Says why something came to nothing: what, where, and the remedy. */
export function useTellFault() {
  const { notification } = App.useApp();
  return useCallback(
    (fault: Fault | undefined, otherwise: string) =>
      notification.error({
        title: fault ? `${fault.place}: ${fault.what}` : "Something went wrong",
        description: fault?.remedy ?? otherwise,
        placement: "bottom",
        duration: 8,
      }),
    [notification],
  );
}

/** Runs something that may be refused, and says why it was. */
export function useAct() {
  const tell = useTellFault();
  return useCallback(
    async <T>(work: () => Promise<T>): Promise<T | undefined> => {
      try {
        return await work();
      } catch (e) {
        tell(e instanceof Refused ? e.fault : undefined, String(e));
        return undefined;
      }
    },
    [tell],
  );
}
