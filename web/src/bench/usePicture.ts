import { useEffect, useRef, useState } from "react";
import { bytes } from "../api/client";
import type { Layer, Region } from "../api/types";
import { lookQuery, type Look } from "./look";

export interface Picture {
  proof: number;
  layer: Layer;
  frame: [number, number];
  region: Region;
  canvas: HTMLCanvasElement;
}

function decode(proof: number, layer: Layer, buffer: ArrayBuffer): Picture {
  const head = new Uint32Array(buffer, 0, 8);
  const [fw, fh, x, y, width, height] = Array.from(head) as [number, number, number, number, number, number];
  const canvas = document.createElement("canvas");
  canvas.width = width;
  canvas.height = height;
  const pixels = new Uint8ClampedArray(buffer, 32);
  canvas.getContext("2d")!.putImageData(new ImageData(pixels, width, height), 0, 0);
  return { proof, layer, frame: [fw, fh], region: { x, y, width, height }, canvas };
}

/**
 * The picture of a proof. While a test runs, `version` grows and the picture is asked for again, one request at a
 * time, so that a slow picture never queues up behind itself.
 */
export function usePicture(proof: number | null, layer: Layer, look: Look, version: number): Picture | null {
  const [picture, setPicture] = useState<Picture | null>(null);
  const address = proof === null ? null : `/api/proofs/${proof}/picture?${lookQuery(look, layer)}`;
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
    wanted.current = address && proof !== null ? `${address}#${version}` : null;
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
          const id = Number(/proofs\/(\d+)/.exec(now)![1]);
          const shownLayer = /layer=(\w+)/.exec(now)![1] as Layer;
          try {
            const p = decode(id, shownLayer, await bytes(now.split("#")[0]!));
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
  }, [address, version, proof]);
  return proof === null ? null : picture;
}
