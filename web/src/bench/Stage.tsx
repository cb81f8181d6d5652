import { useCallback, useEffect, useLayoutEffect, useRef, useState } from "react";
import { get } from "../api/client";
import type { PixelReadout, Region } from "../api/types";
import { percent, steps } from "../app/format";
import { lookQuery, type Look } from "./look";
import { dragged, gripAt, type Grip } from "./region";
import type { Picture } from "./usePicture";

export type CompareMode = "off" | "wipe" | "flicker";

interface View {
  scale: number;
  x: number;
  y: number;
}

interface Props {
  frame: [number, number];
  picture: Picture | null;
  /** Laid beside as A. */
  other: Picture | null;
  /** A whole frame that shows around a region. */
  backdrop: Picture | null;
  mode: CompareMode;
  region: Region | null;
  setRegion: (r: Region | null) => void;
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
  const scale = Math.min((width - 24) / frame[0], (height - 24) / frame[1]);
  return { scale, x: (width - frame[0] * scale) / 2, y: (height - frame[1] * scale) / 2 };
}

export function Stage(p: Props) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const box = useRef<HTMLDivElement>(null);
  const [room, setRoom] = useState({ width: 0, height: 0 });
  /** None: the frame is fitted into the stage. */
  const [free, setFree] = useState<View | null>(null);
  const [wipe, setWipe] = useState(0.5);
  const [tick, setTick] = useState(false);
  const [cursor, setCursor] = useState("crosshair");
  const [under, setUnder] = useState<{ x: number; y: number; readout: PixelReadout | null } | null>(null);
  const drag = useRef<{
    grip: Grip | "pan" | "wipe";
    from: [number, number];
    start: Region | null;
    view: View;
  } | null>(null);
  const space = useRef(false);

  const view = free ?? fitView(room.width, room.height, p.frame);
  // The wipe runs over the shown picture, from its left to its right edge, in frame pixels.
  const wipeFrom = p.picture ? (p.picture.region.x * p.frame[0]) / p.picture.frame[0] : 0;
  const wipeWidth = p.picture ? (p.picture.region.width * p.frame[0]) / p.picture.frame[0] : p.frame[0];
  const wipeAt = wipeFrom + wipe * wipeWidth;

  useLayoutEffect(() => {
    const observer = new ResizeObserver(([entry]) => {
      if (entry) setRoom({ width: entry.contentRect.width, height: entry.contentRect.height });
    });
    observer.observe(box.current!);
    return () => observer.disconnect();
  }, []);

  useEffect(() => {
    if (p.mode !== "flicker") return;
    const timer = setInterval(() => setTick((t) => !t), 600);
    return () => clearInterval(timer);
  }, [p.mode]);

  // Drawing: backdrop, picture or pair, then the region's frame.
  useEffect(() => {
    const c = canvas.current!;
    const ratio = window.devicePixelRatio || 1;
    c.width = Math.max(1, Math.round(room.width * ratio));
    c.height = Math.max(1, Math.round(room.height * ratio));
    const g = c.getContext("2d")!;
    g.setTransform(ratio, 0, 0, ratio, 0, 0);
    g.imageSmoothingEnabled = view.scale < 1;
    g.imageSmoothingQuality = "high";
    const [fx, fy] = p.frame;
    const rect = (r: Region, frame: [number, number]): [number, number, number, number] => {
      const [sx, sy] = [(fx / frame[0]) * view.scale, (fy / frame[1]) * view.scale];
      return [view.x + r.x * sx, view.y + r.y * sy, r.width * sx, r.height * sy];
    };
    g.fillStyle = "#5c5c5c";
    g.fillRect(view.x, view.y, fx * view.scale, fy * view.scale);
    const draw = (picture: Picture) => g.drawImage(picture.canvas, ...rect(picture.region, picture.frame));
    if (p.backdrop) {
      draw(p.backdrop);
      g.fillStyle = "rgba(70,70,70,0.55)";
      g.fillRect(view.x, view.y, fx * view.scale, fy * view.scale);
    }
    const both = p.picture && p.other;
    if (both && p.mode === "wipe") {
      const at = view.x + wipeAt * view.scale;
      const side = (from: number, to: number, picture: Picture) => {
        g.save();
        g.beginPath();
        g.rect(from, 0, to - from, room.height);
        g.clip();
        draw(picture);
        g.restore();
      };
      side(0, at, p.other!);
      side(at, room.width, p.picture!);
      g.fillStyle = "#f5f4f1";
      g.fillRect(at - 0.75, view.y, 1.5, fy * view.scale);
      g.font = '600 12px "IBM Plex Sans"';
      for (const [text, x] of [
        ["A", at - 20],
        ["B", at + 8],
      ] as const) {
        g.fillStyle = "rgba(33,31,28,0.8)";
        g.fillRect(x - 3, view.y + 6, 16, 18);
        g.fillStyle = "#f5f4f1";
        g.fillText(text, x + 1, view.y + 19);
      }
    } else if (both && p.mode === "flicker") {
      draw(tick ? p.other! : p.picture!);
      g.font = '600 12px "IBM Plex Sans"';
      g.fillStyle = "rgba(33,31,28,0.8)";
      g.fillRect(view.x + 6, view.y + 6, 18, 18);
      g.fillStyle = "#f5f4f1";
      g.fillText(tick ? "A" : "B", view.x + 11, view.y + 19);
    } else if (p.picture) {
      draw(p.picture);
    }
    if (p.region) {
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
      g.strokeRect(x, y, w, h);
      for (const [hx, hy] of [
        [0, 0],
        [1, 0],
        [0, 1],
        [1, 1],
        [0.5, 0],
        [0.5, 1],
        [0, 0.5],
        [1, 0.5],
      ] as const) {
        g.fillStyle = "#211f1c";
        g.fillRect(x + hx * w - 4, y + hy * h - 4, 8, 8);
        g.fillStyle = "#f5f4f1";
        g.fillRect(x + hx * w - 3, y + hy * h - 3, 6, 6);
      }
    }
  }, [
    p.picture,
    p.other,
    p.backdrop,
    p.mode,
    p.region,
    p.frame,
    view.x,
    view.y,
    view.scale,
    room,
    wipeAt,
    tick,
  ]);

  const place = useCallback(
    (e: { clientX: number; clientY: number }): [number, number] => {
      const b = canvas.current!.getBoundingClientRect();
      return [(e.clientX - b.left - view.x) / view.scale, (e.clientY - b.top - view.y) / view.scale];
    },
    [view.x, view.y, view.scale],
  );

  const zoom = useCallback(
    (factor: number, at?: { x: number; y: number }) => {
      const c = at ?? { x: room.width / 2, y: room.height / 2 };
      const scale = Math.min(32, Math.max(0.05, view.scale * factor));
      const k = scale / view.scale;
      setFree({ scale, x: c.x - (c.x - view.x) * k, y: c.y - (c.y - view.y) * k });
    },
    [room, view.scale, view.x, view.y],
  );

  useEffect(() => {
    const c = canvas.current!;
    const wheel = (e: WheelEvent) => {
      e.preventDefault();
      const b = c.getBoundingClientRect();
      zoom(Math.exp(-e.deltaY * 0.0015), { x: e.clientX - b.left, y: e.clientY - b.top });
    };
    c.addEventListener("wheel", wheel, { passive: false });
    return () => c.removeEventListener("wheel", wheel);
  }, [zoom]);

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
      if (asking.current || p.proof === null) return;
      asking.current = true;
      try {
        const readout = await get<PixelReadout>(`/api/proofs/${p.proof}/pixel?x=${x}&y=${y}&${query}`);
        setUnder((u) => u && { ...u, readout });
      } catch {
        setUnder((u) => u && { ...u, readout: null });
      } finally {
        setTimeout(() => (asking.current = false), 60);
      }
    },
    [p.proof, query],
  );

  const gripUnder = (e: React.PointerEvent): Grip | "wipe" => {
    const [x, y] = place(e);
    if (p.mode === "wipe" && p.other && Math.abs(x - wipeAt) * view.scale < 8) return "wipe";
    return gripAt(p.region, x, y, 7 / view.scale);
  };

  const down = (e: React.PointerEvent) => {
    (document.activeElement as HTMLElement | null)?.blur();
    canvas.current!.setPointerCapture(e.pointerId);
    const pan = e.button !== 0 || space.current;
    drag.current = {
      grip: pan ? "pan" : gripUnder(e),
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
      setCursor(space.current ? "grab" : grip === "wipe" ? "ew-resize" : cursors[grip]);
      if (inside) {
        setUnder((u) => ({ x: Math.floor(x), y: Math.floor(y), readout: u?.readout ?? null }));
        void read(Math.floor(x), Math.floor(y));
      } else setUnder(null);
      return;
    }
    if (d.grip === "pan") {
      setFree({ ...d.view, x: d.view.x + e.clientX - d.from[0], y: d.view.y + e.clientY - d.from[1] });
    } else if (d.grip === "wipe") {
      setWipe(Math.min(1, Math.max(0, (x - wipeFrom) / wipeWidth)));
    } else if (Math.hypot(x - d.from[0], y - d.from[1]) * view.scale > 4) {
      p.setRegion(dragged(d.start, d.grip, d.from, [x, y], p.frame));
    }
  };

  return (
    <div className="stage" ref={box}>
      <canvas
        ref={canvas}
        data-testid="stage"
        data-shows={p.picture?.proof ?? ""}
        data-layer={p.picture?.layer ?? ""}
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
            setFree({ scale: 1, x: room.width / 2 - c[0]!, y: room.height / 2 - c[1]! });
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
              {under.readout.display.map((v) => v.toFixed(0)).join(" ")} · {under.readout.samples} samples ·
              grain {percent(under.readout.grain, 2)} = {steps(under.readout.grain)} steps
            </>
          )}
        </div>
      )}
    </div>
  );
}
