import type { Fault } from "./types";

/** A fault that the server reported, or that reaching it failed. */
export class Refused extends Error {
  constructor(public readonly fault: Fault) {
    super(`${fault.place}: ${fault.what}`);
  }
}

const unreachable: Fault = {
  code: "io",
  what: "the program does not answer",
  place: "connection",
  remedy: "start it again; what was rendered is kept",
};

async function send(method: string, path: string, body?: unknown): Promise<Response> {
  const raw = body instanceof Blob;
  let response: Response;
  try {
    response = await fetch(path, {
      method,
      body: body === undefined ? undefined : raw ? body : JSON.stringify(body),
      headers: body === undefined || raw ? undefined : { "content-type": "application/json" },
    });
  } catch {
    throw new Refused(unreachable);
  }
  if (!response.ok) {
    const fault = await response.json().catch(() => unreachable);
    throw new Refused(fault as Fault);
  }
  return response;
}

export async function get<T>(path: string): Promise<T> {
  return (await send("GET", path)).json() as Promise<T>;
}

export async function ask<T>(
  method: "POST" | "PUT" | "PATCH" | "DELETE",
  path: string,
  body?: unknown,
): Promise<T> {
  const answer = (await (await send(method, path, body)).json()) as T;
  noteBegun(path, answer);
  return answer;
}

const begunHere = new Set<number>();

/** Remembers the tests that this page has begun. */
function noteBegun(path: string, answer: unknown) {
  const told = answer as { id?: number; running?: number | null } | number | null;
  const id =
    typeof told !== "object" || told === null
      ? told
      : /\/(tests|reference|further)$/.test(path)
        ? told.id
        : told.running;
  if (typeof id === "number" && (typeof told !== "number" || path.endsWith("/pilot"))) begunHere.add(id);
}

/** Whether this page has begun a test; answered after a moment, for the answer to its request may still be on its way. */
export async function wasBegunHere(proof: number): Promise<boolean> {
  await new Promise((r) => setTimeout(r, 800));
  return begunHere.has(proof);
}

/** Sends a file so that its progress can be told; `end` breaks it off. */
export function upload(
  path: string,
  file: Blob,
  progress: (bytes: number) => void,
  end: AbortSignal,
): Promise<void> {
  return new Promise((done, fail) => {
    const request = new XMLHttpRequest();
    request.open("PUT", path);
    request.upload.onprogress = (e) => progress(e.loaded);
    request.onload = () => {
      if (request.status < 300) return done();
      try {
        fail(new Refused(JSON.parse(request.responseText) as Fault));
      } catch {
        fail(new Refused(unreachable));
      }
    };
    request.onerror = () => fail(new Refused(unreachable));
    request.onabort = () =>
      fail(
        new Refused({
          code: "io",
          what: "the import was stopped",
          place: "import",
          remedy: "nothing was left behind",
        }),
      );
    end.addEventListener("abort", () => request.abort());
    request.send(file);
  });
}

export async function bytes(path: string): Promise<ArrayBuffer> {
  return (await send("GET", path)).arrayBuffer();
}
