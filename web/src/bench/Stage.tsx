import { useCallback, useEffect, useLayoutEffect, useRef, useState } from "react";
import { get } from "../api/client";
import type { PixelReadout, Region } from "../api/types";
import { percent, steps } from "../app/format";
import { Loupe } from "./Loupe";
import { lookQuery, type Look } from "./look";
import { onFrame } from "./onFrame";
import { panes, wipeParts, type Rect } from "./panes";
import { dragged, gripAt, type Grip } from "./region";
import type { Picture } from "./usePicture";

export type CompareMode = "off" | "wipe" | "side" | "flicker" | "difference" | "look";

interface View {
  scale: number;
  x: number;
  y: number;
}

export interface Side {
  letter: string;
  picture: Picture | null;
}

interface Props {
  frame: [number, number];
  /** What is shown: one picture, or two to four that are compared, A first. */
  sides: Side[];
  /** Drawn in their place: a map of a difference. */
  map: Picture | null;
  /** A whole frame that shows around a region. */
  backdrop: Picture | null;
  mode: CompareMode;
  region: Region | null;
  setRegion: (r: Region | null) => void;
  locked: boolean;
  loupe: boolean;
  proof: number | null;
  look: Look;
  caption: string;
}

const cursors: Record<Grip, string> = {
  new: "crosshair",
  move: "move",
  n: "ns-resize",
  s: "ns-resize",
  e: "ew-resize",
  w: "ew-resize",
  ne: "nesw-resize",
  sw: "nesw-resize",
  nw: "nwse-resize",
  se: "nwse-resize",
};

function fitView(width: number, height: number, frame: [number, number]): View {
  const scale = Math.max(0.02, Math.min((width - 24) / frame[0], (height - 24) / frame[1]));
  return { scale, x: (width - frame[0] * scale) / 2, y: (height - frame[1] * scale) / 2 };
}

function letter(g: CanvasRenderingContext2D, text: string, x: number, y: number) {
  g.font = '600 12px "IBM Plex Sans"';
  g.fillStyle = "rgba(33,31,28,0.8)";
  g.fillRect(x, y, 18, 18);
  g.fillStyle = "#f5f4f1";
  g.fillText(text, x + 5, y + 13);
}

const handles = [
  [0, 0],
  [1, 0],
  [0, 1],
  [1, 1],
  [0.5, 0],
  [0.5, 1],
  [0, 0.5],
  [1, 0.5],
] as const;

export function Stage(p: Props) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const box = useRef<HTMLDivElement>(null);
  const [room, setRoom] = useState({ width: 0, height: 0 });
  /** None: the frame is fitted into the stage. */
  const [free, setFree] = useState<View | null>(null);
  const [wipe, setWipe] = useState<[number, number]>([0.5, 0.5]);
  const [tick, setTick] = useState(0);
  const [cursor, setCursor] = useState("crosshair");
  const [under, setUnder] = useState<{ x: number; y: number; readout: PixelReadout | null } | null>(null);
  const drag = useRef<{
    grip: Grip | "pan" | "wipe";
    from: [number, number];
    start: Region | null;
    view: View;
  } | null>(null);
  const space = useRef(false);

  const comparing = p.sides.length > 1;
  const areas = panes(p.mode === "side" ? p.sides.length : 1, room.width, room.height);
  const first = areas[0] ?? { x: 0, y: 0, width: room.width, height: room.height };
  const view = free ?? fitView(first.width, first.height, p.frame);
  const main = p.sides[comparing ? 1 : 0]?.picture ?? null;
  // The wipe runs over the shown picture, from edge to edge, in frame pixels.
  const lies = onFrame(main?.frame ?? p.frame, p.frame);
  const whole = { x: 0, y: 0, width: p.frame[0], height: p.frame[1] };
  const span: Region = main
    ? {
        x: lies.x + main.region.x * lies.times,
        y: lies.y + main.region.y * lies.times,
        width: main.region.width * lies.times,
        height: main.region.height * lies.times,
      }
    : whole;
  const wipeAt: [number, number] = [span.x + wipe[0] * span.width, span.y + wipe[1] * span.height];

  useLayoutEffect(() => {
    const observer = new ResizeObserver(([entry]) => {
      if (entry) setRoom({ width: entry.contentRect.width, height: entry.contentRect.height });
    });
    observer.observe(box.current!);
    return () => observer.disconnect();
  }, []);

  useEffect(() => {
    if (p.mode !== "flicker") return;
    const timer = setInterval(() => setTick((t) => t + 1), 600);
    return () => clearInterval(timer);
  }, [p.mode]);

  // Drawing: backdrop, picture or pictures, then the region's frame.
  useEffect(() => {
    const c = canvas.current!;
    const ratio = window.devicePixelRatio || 1;
    const [width, height] = [
      Math.max(1, Math.round(room.width * ratio)),
      Math.max(1, Math.round(room.height * ratio)),
    ];
    if (c.width !== width) c.width = width;
    if (c.height !== height) c.height = height;
    const g = c.getContext("2d")!;
    g.setTransform(ratio, 0, 0, ratio, 0, 0);
    g.clearRect(0, 0, room.width, room.height);
    g.imageSmoothingEnabled = view.scale < 1;
    g.imageSmoothingQuality = "high";
    const [fx, fy] = p.frame;

    const inside = (area: Rect, clip: Rect | null, draw: () => void) => {
      g.save();
      g.beginPath();
      const r = clip ?? area;
      g.rect(r.x, r.y, r.width, r.height);
      g.clip();
      g.translate(area.x, area.y);
      draw();
      g.restore();
    };
    const rect = (r: Region, frame: [number, number]): [number, number, number, number] => {
      const on = onFrame(frame, [fx, fy]);
      const k = on.times * view.scale;
      return [
        view.x + on.x * view.scale + r.x * k,
        view.y + on.y * view.scale + r.y * k,
        r.width * k,
        r.height * k,
      ];
    };
    const draw = (picture: Picture) => {
      g.save();
      g.beginPath();
      g.rect(view.x, view.y, fx * view.scale, fy * view.scale);
      g.clip();
      // A first look is made of cells, and looks like it.
      if (picture.canvas.width < picture.region.width) g.imageSmoothingEnabled = false;
      g.drawImage(picture.canvas, ...rect(picture.region, picture.frame));
      g.restore();
    };
    const ground = () => {
      g.fillStyle = "#5c5c5c";
      g.fillRect(view.x, view.y, fx * view.scale, fy * view.scale);
      if (p.backdrop) {
        draw(p.backdrop);
        g.fillStyle = "rgba(70,70,70,0.55)";
        g.fillRect(view.x, view.y, fx * view.scale, fy * view.scale);
      }
    };
    const outline = () => {
      if (!p.region) return;
      const [x, y, w, h] = rect(p.region, p.frame);
      g.fillStyle = "rgba(60,60,60,0.38)";
      const [l, t, r, b] = [view.x, view.y, view.x + fx * view.scale, view.y + fy * view.scale];
      g.fillRect(l, t, r - l, y - t);
      g.fillRect(l, y + h, r - l, b - y - h);
      g.fillRect(l, y, x - l, h);
      g.fillRect(x + w, y, r - x - w, h);
      g.strokeStyle = "rgba(33,31,28,0.8)";
      g.lineWidth = 3;
      g.strokeRect(x, y, w, h);
      g.strokeStyle = "#f5f4f1";
      g.lineWidth = 1.25;
      if (p.locked) g.setLineDash([6, 4]);
      g.strokeRect(x, y, w, h);
      g.setLineDash([]);
      if (p.locked) return;
      for (const [hx, hy] of handles) {
        g.fillStyle = "#211f1c";
        g.fillRect(x + hx * w - 4, y + hy * h - 4, 8, 8);
        g.fillStyle = "#f5f4f1";
        g.fillRect(x + hx * w - 3, y + hy * h - 3, 6, 6);
      }
    };

    const all: Rect = { x: 0, y: 0, width: room.width, height: room.height };
    if (comparing && p.mode === "side") {
      areas.forEach((area, i) => {
        const side = p.sides[i]!;
        inside(area, null, () => {
          ground();
          if (side.picture) draw(side.picture);
          outline();
          // Below, where nothing else lies over the picture.
          const foot = Math.min(area.height - 26, view.y + fy * view.scale - 24);
          letter(g, side.letter, Math.max(8, view.x + 6), foot);
        });
      });
      g.fillStyle = "#f5f4f1";
      g.fillRect(room.width / 2 - 0.75, 0, 1.5, room.height);
      if (areas.length > 2) g.fillRect(0, room.height / 2 - 0.75, room.width, 1.5);
      return;
    }
    inside(all, null, ground);
    if (comparing && p.mode === "wipe") {
      const [x, y] = [view.x + wipeAt[0] * view.scale, view.y + wipeAt[1] * view.scale];
      const parts = wipeParts(p.sides.length, x, y, room.width, room.height);
      parts.forEach((part, i) => {
        const picture = p.sides[i]!.picture;
        if (picture) inside(all, part, () => draw(picture));
      });
      const quarters = p.sides.length > 2;
      g.fillStyle = "#f5f4f1";
      g.fillRect(x - 0.75, view.y, 1.5, fy * view.scale);
      if (quarters) g.fillRect(view.x, y - 0.75, fx * view.scale, 1.5);
      p.sides.forEach((side, i) => {
        const at = quarters && i > 1 ? y + 6 : Math.max(36, view.y + 6);
        letter(g, side.letter, i % 2 === 0 ? x - 24 : x + 6, at);
      });
    } else if (comparing && p.mode === "flicker") {
      const side = p.sides[tick % p.sides.length]!;
      if (side.picture) inside(all, null, () => draw(side.picture!));
      letter(g, side.letter, view.x + 6, Math.max(36, view.y + 6));
    } else if ((p.mode === "difference" || p.mode === "look") && p.map) {
      inside(all, null, () => draw(p.map!));
    } else if (main) {
      inside(all, null, () => draw(main));
    }
    inside(all, null, outline);
  });

  /** Position on the stage, and on the frame in frame pixels. */
  const place = useCallback(
    (e: { clientX: number; clientY: number }): [number, number] => {
      const b = canvas.current!.getBoundingClientRect();
      const [x, y] = [e.clientX - b.left, e.clientY - b.top];
      const pane =
        areas.find((a) => x >= a.x && x < a.x + a.width && y >= a.y && y < a.y + a.height) ?? first;
      return [(x - pane.x - view.x) / view.scale, (y - pane.y - view.y) / view.scale];
    },
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [view.x, view.y, view.scale, room, p.mode, p.sides.length],
  );

  const zoom = useCallback(
    (factor: number, at?: { x: number; y: number }) => {
      const c = at ?? { x: first.width / 2, y: first.height / 2 };
      const scale = Math.min(32, Math.max(0.05, view.scale * factor));
      const k = scale / view.scale;
      setFree({ scale, x: c.x - (c.x - view.x) * k, y: c.y - (c.y - view.y) * k });
    },
    [first.width, first.height, view.scale, view.x, view.y],
  );

  useEffect(() => {
    const c = canvas.current!;
    const wheel = (e: WheelEvent) => {
      e.preventDefault();
      const [x, y] = place(e);
      zoom(Math.exp(-e.deltaY * 0.0015), { x: view.x + x * view.scale, y: view.y + y * view.scale });
    };
    c.addEventListener("wheel", wheel, { passive: false });
    return () => c.removeEventListener("wheel", wheel);
  }, [zoom, place, view.x, view.y, view.scale]);

  useEffect(() => {
    const down = (e: KeyboardEvent) => {
      if (e.code === "Space" && e.target === document.body) {
        space.current = true;
        e.preventDefault();
      }
    };
    const up = (e: KeyboardEvent) => e.code === "Space" && (space.current = false);
    window.addEventListener("keydown", down);
    window.addEventListener("keyup", up);
    return () => {
      window.removeEventListener("keydown", down);
      window.removeEventListener("keyup", up);
    };
  }, []);

  // The readout follows the pointer, one question at a time.
  const asking = useRef(false);
  const query = lookQuery(p.look);
  const read = useCallback(
    async (x: number, y: number) => {
      if (asking.current || p.proof === null || !main) return;
      asking.current = true;
      // A proof of another size has other pixels.
      const on = onFrame(main.frame, p.frame);
      const [px, py] = [Math.floor((x - on.x) / on.times), Math.floor((y - on.y) / on.times)];
      try {
        const readout = await get<PixelReadout>(`/api/proofs/${p.proof}/pixel?x=${px}&y=${py}&${query}`);
        setUnder((u) => u && { ...u, readout });
      } catch {
        setUnder((u) => u && { ...u, readout: null });
      } finally {
        setTimeout(() => (asking.current = false), 60);
      }
    },
    [p.proof, p.frame, query, main],
  );

  const gripUnder = (e: React.PointerEvent): Grip | "wipe" => {
    const [x, y] = place(e);
    if (p.mode === "wipe" && comparing) {
      const near = (a: number, b: number) => Math.abs(a - b) * view.scale < 8;
      if (near(x, wipeAt[0]) || (p.sides.length > 2 && near(y, wipeAt[1]))) return "wipe";
    }
    return p.locked ? "new" : gripAt(p.region, x, y, 7 / view.scale);
  };

  const down = (e: React.PointerEvent) => {
    (document.activeElement as HTMLElement | null)?.blur();
    canvas.current!.setPointerCapture(e.pointerId);
    const grip = gripUnder(e);
    const pan = e.button !== 0 || space.current || (p.locked && grip !== "wipe");
    drag.current = {
      grip: pan ? "pan" : grip,
      from: pan ? [e.clientX, e.clientY] : place(e),
      start: p.region,
      view,
    };
  };
  const move = (e: React.PointerEvent) => {
    const [x, y] = place(e);
    const d = drag.current;
    const inside = x >= 0 && y >= 0 && x < p.frame[0] && y < p.frame[1];
    if (!d) {
      const grip = gripUnder(e);
      setCursor(
        space.current || (p.locked && grip !== "wipe") ? "grab" : grip === "wipe" ? "move" : cursors[grip],
      );
      if (inside) {
        setUnder((u) => ({ x: Math.floor(x), y: Math.floor(y), readout: u?.readout ?? null }));
        void read(Math.floor(x), Math.floor(y));
      } else setUnder(null);
      return;
    }
    if (d.grip === "pan") {
      setFree({ ...d.view, x: d.view.x + e.clientX - d.from[0], y: d.view.y + e.clientY - d.from[1] });
    } else if (d.grip === "wipe") {
      const share = (v: number, from: number, size: number) => Math.min(1, Math.max(0, (v - from) / size));
      setWipe([share(x, span.x, span.width), p.sides.length > 2 ? share(y, span.y, span.height) : wipe[1]]);
    } else if (Math.hypot(x - d.from[0], y - d.from[1]) * view.scale > 4) {
      p.setRegion(dragged(d.start, d.grip, d.from, [x, y], p.frame));
    }
  };

  return (
    <div className="stage" ref={box}>
      <canvas
        ref={canvas}
        data-testid="stage"
        data-shows={main ? (/proofs\/(\d+)/.exec(main.address)?.[1] ?? "") : ""}
        data-layer={main ? (/layer=(\w+)/.exec(main.address)?.[1] ?? "") : ""}
        data-mode={p.mode}
        data-coarse={main ? Math.round(main.region.width / main.canvas.width) : 0}
        style={{ cursor }}
        onPointerDown={down}
        onPointerMove={move}
        onPointerUp={() => (drag.current = null)}
        onPointerLeave={() => setUnder(null)}
        onContextMenu={(e) => e.preventDefault()}
      />
      <div className="stage-caption">{p.caption}</div>
      <div className="stage-zoom">
        <button onClick={() => zoom(1 / 1.5)} aria-label="Zoom out">
          −
        </button>
        <span>{Math.round(view.scale * 100)} %</span>
        <button onClick={() => zoom(1.5)} aria-label="Zoom in">
          +
        </button>
        <button onClick={() => setFree(null)}>fit</button>
        <button
          onClick={() => {
            const c = p.region
              ? [p.region.x + p.region.width / 2, p.region.y + p.region.height / 2]
              : [p.frame[0] / 2, p.frame[1] / 2];
            setFree({ scale: 1, x: first.width / 2 - c[0]!, y: first.height / 2 - c[1]! });
          }}
        >
          1:1
        </button>
      </div>
      {under && (
        <div className="stage-readout" data-testid="readout">
          {under.x}, {under.y}
          {under.readout && (
            <>
              {" "}
              · light {under.readout.value.map((v) => v.toPrecision(3)).join(" ")} · display{" "}
              {under.readout.display.map((v) => v.toFixed(0)).join(" ")}
              {under.readout.samples > 0 &&
                ` · ${under.readout.samples} samples · grain ${percent(under.readout.grain, 2)} = ${steps(under.readout.grain)} steps`}
            </>
          )}
        </div>
      )}
      {p.loupe && under && <Loupe sides={p.sides} frame={p.frame} at={[under.x, under.y]} />}
    </div>
  );
}
