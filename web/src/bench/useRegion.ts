import { useState } from "react";
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
  const set = (region: Region | null) => {
    const value = region && { region, frame };
    localStorage.setItem(key, JSON.stringify(value));
    keep(value);
  };
  const lock = (on: boolean) => {
    localStorage.setItem(`${key} locked`, on ? "yes" : "no");
    setLocked(on);
  };
  const region = kept && rescaled(kept.region, kept.frame, frame);
  return {
    region,
    set: (r: Region | null) => (locked && r !== null ? undefined : set(r)),
    put: set,
    locked,
    lock,
  };
}
