import { useEffect, useRef, useState } from "react";
import { bytes } from "../api/client";
import type { Region } from "../api/types";

export interface Picture {
  address: string;
  frame: [number, number];
  region: Region;
  canvas: HTMLCanvasElement;
}

function decode(address: string, buffer: ArrayBuffer): Picture {
  const head = new Uint32Array(buffer, 0, 8);
  const [fw, fh, x, y, width, height, across, down] = Array.from(head) as [
    number,
    number,
    number,
    number,
    number,
    number,
    number,
    number,
  ];
  const canvas = document.createElement("canvas");
  // A first look has fewer pixels than its region.
  canvas.width = across;
  canvas.height = down;
  const pixels = new Uint8ClampedArray(buffer, 32);
  canvas.getContext("2d")!.putImageData(new ImageData(pixels, across, down), 0, 0);
  return { address, frame: [fw, fh], region: { x, y, width, height }, canvas };
}

/**
 * The picture at an address. While a test runs, `version` grows and the picture is asked for again, one request at a
 * time, so that a slow picture never queues up behind itself. `hold`: another one is about to be wanted.
 */
export function usePicture(address: string | null, version: number, hold = false): Picture | null {
  const [picture, setPicture] = useState<Picture | null>(null);
  const wanted = useRef<string | null>(null);
  const busy = useRef(false);
  const alive = useRef(true);
  useEffect(() => {
    alive.current = true;
    return () => {
      alive.current = false;
    };
  }, []);
  useEffect(() => {
    if (hold) return;
    wanted.current = address === null ? null : `${address}#${version}`;
    if (wanted.current === null) {
      setPicture(null);
      return;
    }
    const run = async () => {
      if (busy.current) return;
      busy.current = true;
      try {
        while (alive.current && wanted.current !== null) {
          const now = wanted.current;
          const from = now.split("#")[0]!;
          try {
            const p = decode(from, await bytes(from));
            if (alive.current) setPicture(p);
          } catch {
            // A test without a picture yet, or a proof that has just gone: the next report asks again.
          }
          if (wanted.current === now) break;
        }
      } finally {
        busy.current = false;
      }
    };
    void run();
  }, [address, version, hold]);
  return address === null ? null : picture;
}
