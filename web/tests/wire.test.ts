import type { QueryClient } from "@tanstack/react-query";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { ask, get, Refused } from "../src/api/client";
import { connect, isActive } from "../src/api/live";
import type { Progress } from "../src/api/types";

beforeEach(() => vi.useFakeTimers());
afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const answer = (status: number, body: string) => Promise.resolve(new Response(body, { status }));

describe("what the program refuses", () => {
  const fault = { code: "busy", what: "a test renders", place: "test", remedy: "stop it" };

  it("comes with its place and remedy", async () => {
    vi.stubGlobal("fetch", () => answer(409, JSON.stringify(fault)));
    const refused = await get("/api/shots").catch((e: unknown) => e);
    expect(refused).toBeInstanceOf(Refused);
    expect((refused as Refused).fault).toEqual(fault);
    expect((refused as Refused).message).toBe("test: a test renders");
  });

  it("is told from a program that is not there, or answers with something else", async () => {
    for (const fetch of [() => Promise.reject(new TypeError("failed")), () => answer(502, "<html>")]) {
      vi.stubGlobal("fetch", fetch);
      const refused = await get("/api/shots").catch((e: unknown) => e);
      expect((refused as Refused).fault.remedy).toBe("start it again; what was rendered is kept");
    }
  });

  it("what is sent arrives as JSON, files as they are, nothing as nothing", async () => {
    const sent: [string, RequestInit][] = [];
    vi.stubGlobal("fetch", (path: string, init: RequestInit) => {
      sent.push([path, init]);
      return answer(200, "{}");
    });
    const file = new Blob(["x"]);
    await ask("PATCH", "/a", { tuning: { "split.direct": 2 } });
    await ask("PUT", "/b", file);
    await ask("POST", "/c");
    expect(sent.map(([path, init]) => [path, init.method, init.body, init.headers])).toEqual([
      ["/a", "PATCH", '{"tuning":{"split.direct":2}}', { "content-type": "application/json" }],
      ["/b", "PUT", file, undefined],
      ["/c", "POST", undefined, undefined],
    ]);
  });
});

/** A socket that is opened and closed by hand. */
class Socket {
  static all: Socket[] = [];
  onopen = () => {};
  onclose = () => {};
  onmessage: (message: { data: string }) => void = () => {};
  constructor(public address: string) {
    Socket.all.push(this);
  }
}

describe("the live connection", () => {
  let asked: (string | undefined)[] = [];
  const queries = {
    invalidateQueries: (what?: { queryKey: unknown[] }) => {
      asked.push(what && JSON.stringify(what.queryKey));
      return Promise.resolve();
    },
  } as unknown as QueryClient;
  const last = () => Socket.all.at(-1)!;
  const hear = (event: unknown) => last().onmessage({ data: JSON.stringify(event) });

  beforeEach(() => {
    [Socket.all, asked] = [[], []];
    vi.stubGlobal("WebSocket", Socket);
    vi.stubGlobal("location", { host: "127.0.0.1:1" });
    connect(queries);
  });

  it("asks for everything again when it is back", () => {
    last().onopen();
    expect(asked).toEqual([undefined]);
    last().onclose();
    vi.advanceTimersByTime(900);
    expect(Socket.all).toHaveLength(1);
    vi.advanceTimersByTime(200);
    expect(Socket.all).toHaveLength(2);
    last().onopen();
    expect(asked).toEqual([undefined, undefined]);
  });

  it("asks once for what changed many times, and for each shot apart", () => {
    for (let i = 0; i < 20; i++) hear({ type: "proofs", shot: 1 });
    hear({ type: "proofs", shot: 2 });
    expect(asked).toEqual([]);
    vi.advanceTimersByTime(400);
    expect(asked.filter((k) => k === '["proofs",1]')).toHaveLength(1);
    expect(asked.filter((k) => k === '["forecast",2]')).toHaveLength(1);
    expect(new Set(asked).size).toBe(asked.length);
    // And again when there is something new.
    hear({ type: "proofs", shot: 1 });
    vi.advanceTimersByTime(400);
    expect(asked.filter((k) => k === '["proofs",1]')).toHaveLength(2);
  });

  it("asks at once for what is rare", () => {
    hear({ type: "finals" });
    hear({ type: "settings" });
    expect(asked).toEqual(['["finals"]', '["settings"]', '["tables"]']);
  });
});

describe("progress", () => {
  it("is at an end in three ways", () => {
    const at = (phase: string) => isActive({ phase } as Progress);
    expect(["sampling", "denoising", "done", "stopped", "failed"].map(at)).toEqual([
      true,
      true,
      false,
      false,
      false,
    ]);
    expect(isActive(undefined)).toBe(false);
  });
});
