// Numbers for people. The core computes, this only writes.

import type { Forecast } from "../api/types";

/** 0.4 s, 11 s, 2:05, 1:02:05 */
export function duration(seconds: number): string {
  if (seconds < 9.95) return `${seconds.toFixed(1)} s`;
  const s = Math.round(seconds);
  if (s < 60) return `${s} s`;
  const [h, m, rest] = [Math.floor(s / 3600), Math.floor(s / 60) % 60, s % 60];
  const two = (n: number) => String(n).padStart(2, "0");
  return h > 0 ? `${h}:${two(m)}:${two(rest)}` : `${m}:${two(rest)}`;
}

/** 12 min 40 s, for sentences. */
export function spoken(seconds: number): string {
  const s = Math.round(seconds);
  if (s < 60) return `${s} s`;
  if (s < 3600) return s % 60 ? `${Math.floor(s / 60)} min ${s % 60} s` : `${s / 60} min`;
  const minutes = Math.round(s / 60);
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

/** How long a final takes, at least and at most, by the clock and by processor time. */
export function within(f: Pick<Forecast, "seconds" | "low" | "high" | "beside" | "processor">): string {
  const others =
    f.beside > 1.1 * f.seconds
      ? `; ${duration(f.beside)} where other programs go on taking the processors as they did during the test`
      : "";
  const processor = f.processor > 0 ? ` Processor time of its samples: ${duration(f.processor)}.` : "";
  return `At least ${duration(f.low)} and at most ${duration(f.high)} by the clock${others}.${processor}`;
}

/** Grain as a share of the display range: 1.2 % */
export function percent(share: number, digits = 1): string {
  return `${(share * 100).toFixed(digits)} %`;
}

/** The same in steps of 255. */
export const steps = (share: number): string => (share * 255).toFixed(1);

export function count(n: number): string {
  if (n >= 1e9) return `${(n / 1e9).toFixed(2)} billion`;
  if (n >= 1e6) return `${(n / 1e6).toFixed(1)} million`;
  return n.toLocaleString("en");
}

export function size(bytes: number): string {
  return bytes >= 1e6 ? `${(bytes / 1e6).toFixed(1)} MB` : `${Math.max(1, Math.round(bytes / 1e3))} kB`;
}

/** exr_half → EXR half */
export const fileKind = (kind: string): string => {
  const [name, depth] = kind.split("_");
  return `${name!.toUpperCase()} ${depth ?? ""}`.trim();
};

export function clock(unix: number): string {
  return new Date(unix * 1000).toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });
}

/** 4.2 × faster / 1.3 × slower */
export function ratio(r: number, more: string, less: string): string {
  if (Math.abs(r - 1) < 0.005) return "the same";
  return r > 1
    ? `${r.toFixed(r < 10 ? 2 : 0)} × ${more}`
    : `${(1 / r).toFixed(1 / r < 10 ? 2 : 0)} × ${less}`;
}

/** Reads a number or a small sum as typed: 1920*1.5. Undefined when it is neither. */
export function arithmetic(text: string): number | undefined {
  const tokens = text.replace(/,/g, ".").match(/\d*\.?\d+(?:e-?\d+)?|[-+*/()]/gi);
  if (!tokens || tokens.join("") !== text.replace(/,/g, ".").replace(/\s/g, "")) return undefined;
  let at = 0;
  const factor = (): number => {
    const t = tokens[at++];
    if (t === "-") return -factor();
    if (t === "+") return factor();
    if (t === "(") {
      const v = sum();
      if (tokens[at++] !== ")") return NaN;
      return v;
    }
    return t === undefined ? NaN : Number(t);
  };
  const product = (): number => {
    let v = factor();
    while (tokens[at] === "*" || tokens[at] === "/") v = tokens[at++] === "*" ? v * factor() : v / factor();
    return v;
  };
  const sum = (): number => {
    let v = product();
    while (tokens[at] === "+" || tokens[at] === "-") v = tokens[at++] === "+" ? v + product() : v - product();
    return v;
  };
  const value = sum();
  return at === tokens.length && Number.isFinite(value) ? value : undefined;
}
