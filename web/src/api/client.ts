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

export async function ask<T>(method: "POST" | "PATCH" | "DELETE", path: string, body?: unknown): Promise<T> {
  return (await send(method, path, body)).json() as Promise<T>;
}

export async function bytes(path: string): Promise<ArrayBuffer> {
  return (await send("GET", path)).arrayBuffer();
}
