import { App, Button } from "antd";
import { useCallback } from "react";

let next = 0;

/** Tells what was done, with a way to take it back. */
export function useNotice() {
  const { notification } = App.useApp();
  return useCallback(
    (title: string, action?: string, work?: () => void) => {
      const key = `notice ${next++}`;
      notification.open({
        key,
        title,
        placement: "bottom",
        duration: 8,
        actions: action && (
          <Button
            size="small"
            onClick={() => {
              notification.destroy(key);
              work?.();
            }}
          >
            {action}
          </Button>
        ),
      });
    },
    [notification],
  );
}
