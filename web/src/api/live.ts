// The one WebSocket: progress goes into a small store, changes make the queries ask again.
import type { QueryClient } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import { wasBegunHere } from "./client";
import type { Event, FinalTimes, Fault, Progress, ProofKind } from "./types";

export interface LiveTest {
  shot: number;
  proof: number;
  kind: ProofKind;
  most: number | null;
  threshold: number;
  progress: Progress;
  fault: Fault | null;
  stalled: string | null;
  /** Grows with every report, so that pictures know when to ask again. */
  version: number;
}

interface Live {
  connected: boolean;
  test: LiveTest | null;
  finals: Record<number, { progress: Progress; times: FinalTimes }>;
  /** What came to nothing last. */
  refused: Fault | null;
  /** What other pages do to the tests of this one, and the other way round. */
  notice: { text: string } | null;
}

let live: Live = { connected: false, test: null, finals: {}, refused: null, notice: null };
const listeners = new Set<() => void>();

function update(part: Partial<Live>) {
  live = { ...live, ...part };
  listeners.forEach((l) => l());
}

function subscribe(l: () => void) {
  listeners.add(l);
  return () => listeners.delete(l);
}

export function useLive(): Live {
  return useSyncExternalStore(subscribe, () => live);
}

/** One value of what is live: what uses it is drawn again only when that changes. */
export function useLiveValue<T extends string | number | boolean | null>(select: (l: Live) => T): T {
  return useSyncExternalStore(subscribe, () => select(live));
}

/** The test of a shot that runs. */
export const useRunning = (shot: number) =>
  useLiveValue((l) => (l.test?.shot === shot && isActive(l.test.progress) ? l.test.proof : null));

export function isActive(p: Progress | undefined): boolean {
  return p !== undefined && !["done", "stopped", "failed"].includes(p.phase);
}

const waiting = new Map<number, Map<string, unknown[]>>();

/** Asks again after a while, once for each thing, when what is urgent is on its way. */
function later(milliseconds: number, queries: QueryClient, ...keys: unknown[][]) {
  const first = !waiting.has(milliseconds);
  const list = waiting.get(milliseconds) ?? new Map<string, unknown[]>();
  waiting.set(milliseconds, list);
  keys.forEach((k) => list.set(JSON.stringify(k), k));
  if (!first) return;
  setTimeout(() => {
    waiting.delete(milliseconds);
    list.forEach((queryKey) => void queries.invalidateQueries({ queryKey }));
  }, milliseconds);
}

/** Two pages share one bench: each says what it did to the other's test. */
async function tellPushedOut(e: Extract<Event, { type: "pushed_out" }>) {
  const [stopped, by] = await Promise.all([wasBegunHere(e.proof), wasBegunHere(e.by)]);
  if (stopped && !by)
    update({
      notice: { text: `Your test of “${e.shot_name}” was stopped: a test of “${e.by_shot_name}” began.` },
    });
  if (by && !stopped)
    update({
      notice: { text: `Your test has stopped a test of “${e.shot_name}” that was not begun on this page.` },
    });
}

function receive(e: Event, queries: QueryClient) {
  const again = (...key: unknown[]) => void queries.invalidateQueries({ queryKey: key });
  switch (e.type) {
    case "test":
      update({ test: { ...e, version: (live.test?.version ?? 0) + 1 } });
      break;
    case "proofs":
      // The picture of a test that has just begun is more urgent than the sheet.
      later(
        350,
        queries,
        ["proofs", e.shot],
        ["settings"],
        ["forecast", e.shot],
        ["prices", e.shot],
        ["advice"],
        ["ledger"],
        ["ladder", e.shot],
        ["shots"],
        ["shot", e.shot],
      );
      break;
    case "shot":
      // The page that made the change knows it already.
      later(150, queries, ["shot", e.shot]);
      later(
        350,
        queries,
        ["revisions", e.shot],
        ["regions", e.shot],
        ["shots"],
        ["forecast", e.shot],
        ["prices", e.shot],
        ["advice"],
        ["ledger"],
        ["ladder", e.shot],
        ["proofs", e.shot],
      );
      break;
    case "partials":
      again("partials");
      again("ladder");
      break;
    case "settings":
      again("settings");
      again("tables");
      break;
    case "refused":
      update({ refused: e.fault });
      break;
    case "pushed_out":
      void tellPushedOut(e);
      break;
    case "final":
      update({ finals: { ...live.finals, [e.id]: e } });
      break;
    case "finals":
      again("finals");
      break;
    case "bin":
      again("bin");
      break;
    case "shots":
      again("shots");
      again("scenes");
      again("environments");
      break;
  }
}

export function connect(queries: QueryClient) {
  const socket = new WebSocket(
    `${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/api/events`,
  );
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
