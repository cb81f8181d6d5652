import { App } from "antd";
import { useCallback } from "react";
import { Refused } from "../api/client";

/** Runs something that may be refused, and says why it was: what, where, and the remedy. */
export function useAct() {
  const { notification } = App.useApp();
  return useCallback(
    async <T>(work: () => Promise<T>): Promise<T | undefined> => {
      try {
        return await work();
      } catch (e) {
        const fault = e instanceof Refused ? e.fault : undefined;
        notification.error({
          title: fault ? `${fault.place}: ${fault.what}` : "Something went wrong",
          description: fault?.remedy ?? String(e),
          placement: "bottom",
          duration: 8,
        });
        return undefined;
      }
    },
    [notification],
  );
}
