// The one WebSocket: progress goes into a small store, changes make the queries ask again.
import type { QueryClient } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import type { Event, Fault, Progress } from "./types";

export interface LiveTest {
  shot: number;
  proof: number;
  progress: Progress;
  fault: Fault | null;
  stalled: string | null;
  /** Grows with every report, so that pictures know when to ask again. */
  version: number;
}

interface Live {
  connected: boolean;
  test: LiveTest | null;
  finals: Record<number, Progress>;
}

let live: Live = { connected: false, test: null, finals: {} };
const listeners = new Set<() => void>();

function update(part: Partial<Live>) {
  live = { ...live, ...part };
  listeners.forEach((l) => l());
}

export function useLive(): Live {
  return useSyncExternalStore(
    (l) => {
      listeners.add(l);
      return () => listeners.delete(l);
    },
    () => live,
  );
}

export function isActive(p: Progress | undefined): boolean {
  return p !== undefined && !["done", "stopped", "failed"].includes(p.phase);
}

const waiting: Record<number, () => void> = {};

/** Runs the latest piece of work of a shot in a moment, when the urgent things are on their way. */
function later(shot: number, work: () => void) {
  const before = waiting[shot];
  waiting[shot] = () => {
    before?.();
    work();
  };
  if (!before)
    setTimeout(() => {
      const all = waiting[shot];
      delete waiting[shot];
      all?.();
    }, 350);
}

function receive(e: Event, queries: QueryClient) {
  const again = (...key: unknown[]) => void queries.invalidateQueries({ queryKey: key });
  switch (e.type) {
    case "test":
      update({ test: { ...e, version: (live.test?.version ?? 0) + 1 } });
      break;
    case "proofs":
      again("proofs", e.shot);
      again("settings");
      // What a test has just begun is more urgent than what follows from ended ones.
      later(e.shot, () => {
        again("forecast", e.shot);
        again("ladder", e.shot);
        again("shots");
        again("shot", e.shot);
      });
      break;
    case "shot":
      again("shot", e.shot);
      again("revisions", e.shot);
      again("regions", e.shot);
      later(e.shot, () => {
        again("shots");
        again("forecast", e.shot);
        again("ladder", e.shot);
        again("proofs", e.shot);
      });
      break;
    case "partials":
      again("partials");
      again("ladder");
      break;
    case "settings":
      again("settings");
      break;
    case "final":
      update({ finals: { ...live.finals, [e.id]: e.progress } });
      break;
    case "finals":
      again("finals");
      break;
    case "shots":
      again("shots");
      again("scenes");
      again("environments");
      break;
  }
}

export function connect(queries: QueryClient) {
  const socket = new WebSocket(`ws://${location.host}/api/events`);
  socket.onopen = () => {
    update({ connected: true, test: null });
    // Whatever was missed while away is asked for again.
    void queries.invalidateQueries();
  };
  socket.onmessage = (m) => receive(JSON.parse(m.data as string) as Event, queries);
  socket.onclose = () => {
    update({ connected: false });
    setTimeout(() => connect(queries), 1000);
  };
}
