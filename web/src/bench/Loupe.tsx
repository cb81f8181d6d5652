import { useEffect, useRef } from "react";
import { onFrame } from "./onFrame";
import type { Side } from "./Stage";

/** Side of the spot in frame pixels, and of its picture on the screen. */
const SPOT = 20;
const SIZE = 140;

/** The same spot of all pictures, pixel by pixel. */
export function Loupe({
  sides,
  frame,
  at,
}: {
  sides: Side[];
  frame: [number, number];
  at: [number, number];
}) {
  return (
    <div className="loupe" data-testid="loupe">
      {sides.map((s) => (
        <Spot key={s.letter} side={s} frame={frame} at={at} />
      ))}
    </div>
  );
}

function Spot({ side, frame, at }: { side: Side; frame: [number, number]; at: [number, number] }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const g = canvas.current!.getContext("2d")!;
    g.imageSmoothingEnabled = false;
    g.fillStyle = "#5c5c5c";
    g.fillRect(0, 0, SIZE, SIZE);
    const p = side.picture;
    if (!p) return;
    const zoom = SIZE / SPOT;
    const on = onFrame(p.frame, frame);
    const k = on.times * zoom;
    const [left, top] = [at[0] + 0.5 - SPOT / 2, at[1] + 0.5 - SPOT / 2];
    g.drawImage(
      p.canvas,
      (on.x - left) * zoom + p.region.x * k,
      (on.y - top) * zoom + p.region.y * k,
      p.region.width * k,
      p.region.height * k,
    );
    g.strokeStyle = "rgba(245,244,241,0.7)";
    g.strokeRect(SIZE / 2 - zoom / 2, SIZE / 2 - zoom / 2, zoom, zoom);
  });
  return (
    <figure>
      <canvas ref={canvas} width={SIZE} height={SIZE} />
      {side.letter && <figcaption>{side.letter}</figcaption>}
    </figure>
  );
}
