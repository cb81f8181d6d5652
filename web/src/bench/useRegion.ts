import { useCallback, useMemo, useState } from "react";
import type { Region } from "../api/types";
import { rescaled } from "./region";

interface Kept {
  region: Region;
  frame: [number, number];
}

/** The region of a shot and whether it is locked, remembered on this machine and kept relative to the frame. */
export function useRegion(shot: number, frame: [number, number]) {
  const key = `region ${shot}`;
  const [kept, keep] = useState(
    (): Kept | null => JSON.parse(localStorage.getItem(key) ?? "null") as Kept | null,
  );
  const [locked, setLocked] = useState(() => localStorage.getItem(`${key} locked`) === "yes");
  const put = useCallback(
    (region: Region | null) => {
      const value = region && { region, frame };
      localStorage.setItem(key, JSON.stringify(value));
      keep(value);
    },
    [key, frame],
  );
  const set = useCallback(
    (r: Region | null) => {
      if (!locked || r === null) put(r);
    },
    [locked, put],
  );
  const lock = useCallback(
    (on: boolean) => {
      localStorage.setItem(`${key} locked`, on ? "yes" : "no");
      setLocked(on);
    },
    [key],
  );
  const region = useMemo(() => kept && rescaled(kept.region, kept.frame, frame), [kept, frame]);
  return { region, set, put, locked, lock };
}
