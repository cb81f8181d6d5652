import { Button, InputNumber, Segmented } from "antd";
import { useRef, useState } from "react";
import { ask } from "../api/client";
import type { FinalView, Region, TopUp } from "../api/types";
import { percent } from "../app/format";
import { useAct } from "../app/useAct";
import { verdictHelp, wayText, whereabouts } from "./verdict";

/** The delivered picture, small: blocks that are not as clean as the shot asks for are hatched; a spot can be marked to go on there. */
export function FinalPicture({ f }: { f: FinalView }) {
  const act = useAct();
  const box = useRef<HTMLDivElement>(null);
  const from = useRef<[number, number] | null>(null);
  const [spot, setSpot] = useState<Region | null>(null);
  const [by, setBy] = useState<"seconds" | "threshold">("seconds");
  const [seconds, setSeconds] = useState(Math.max(5, Math.round(f.budget / 10)));
  const [threshold, setThreshold] = useState(50 * f.threshold);
  const [w, h] = f.frame;
  const verdict = f.report?.verdict;
  const place = (r: Region) => ({
    left: `${(100 * r.x) / w}%`,
    top: `${(100 * r.y) / h}%`,
    width: `${(100 * r.width) / w}%`,
    height: `${(100 * r.height) / h}%`,
  });
  const at = (e: React.PointerEvent): [number, number] => {
    const b = box.current!.getBoundingClientRect();
    const inside = (v: number, most: number) => Math.min(most, Math.max(0, Math.round(v)));
    return [inside(((e.clientX - b.left) / b.width) * w, w), inside(((e.clientY - b.top) / b.height) * h, h)];
  };
  const drag = (e: React.PointerEvent) => {
    if (!from.current) return;
    const [x, y] = at(e);
    const [x0, y0] = from.current;
    const next = {
      x: Math.min(x, x0),
      y: Math.min(y, y0),
      width: Math.abs(x - x0),
      height: Math.abs(y - y0),
    };
    setSpot(next.width > 1 && next.height > 1 ? next : null);
  };
  const go = () => {
    if (!spot) return;
    const more: TopUp = {
      region: spot,
      ...(by === "seconds" ? { seconds } : { threshold: threshold / 100 }),
    };
    void act(() => ask("POST", `/api/finals/${f.id}/top-up`, more));
    setSpot(null);
  };
  return (
    <>
      <div
        ref={box}
        className={f.can_top_up ? "final-spot markable" : "final-spot"}
        data-testid="final-picture"
        onPointerDown={(e) => {
          if (!f.can_top_up) return;
          e.currentTarget.setPointerCapture(e.pointerId);
          from.current = at(e);
        }}
        onPointerMove={drag}
        onPointerUp={() => (from.current = null)}
      >
        <img
          className="final-picture"
          draggable={false}
          src={`/api/finals/${f.id}/files/thumb.png?${f.ended}`}
          alt={`Final of ${f.shot_name}`}
        />
        {verdict?.places.map((r) => (
          <i key={`${r.x},${r.y}`} className="final-unclean" style={place(r)} />
        ))}
        {spot && <i className="final-mark" style={place(spot)} />}
      </div>
      {verdict && (
        <p className="second" data-testid="verdict-why">
          {verdictHelp(verdict)}
          {verdict.above > 0 &&
            ` Hatched: ${percent(verdict.above, 1)} of the blocks are above, the worst ${verdict.places[0] ? `at the ${whereabouts(verdict.places[0], f.frame)}` : ""}.`}
        </p>
      )}
      {verdict && verdict.ways.length > 0 && (
        <ul className="second verdict-ways">
          {verdict.ways.map((way) => (
            <li key={way.way}>
              {wayText(way)}
              {way.way === "top_up" && way.far && ", far beyond the budget"}{" "}
              {way.way === "top_up" && f.can_top_up && !way.far && (
                <Button
                  size="small"
                  onClick={() =>
                    void act(() =>
                      ask("POST", `/api/finals/${f.id}/top-up`, {
                        region: way.region,
                        threshold: way.threshold,
                      }),
                    )
                  }
                >
                  Top up there
                </Button>
              )}
            </li>
          ))}
        </ul>
      )}
      {f.can_top_up && !spot && (
        <p className="second">Drag over a spot that is still grainy to go on only there.</p>
      )}
      {spot && (
        <div className="top-up">
          <span>
            {spot.width} × {spot.height} px
          </span>
          <Segmented
            size="small"
            value={by}
            onChange={setBy}
            options={[
              { value: "seconds", label: "for" },
              { value: "threshold", label: "to" },
            ]}
          />
          {by === "seconds" ? (
            <InputNumber
              size="small"
              aria-label="Seconds of the top-up"
              value={seconds}
              min={1}
              suffix="s"
              onChange={(v) => v && setSeconds(v)}
            />
          ) : (
            <InputNumber
              size="small"
              aria-label="Threshold of the top-up"
              value={threshold}
              min={0.01}
              step={0.1}
              suffix="%"
              onChange={(v) => v && setThreshold(v)}
            />
          )}
          <Button size="small" type="primary" onClick={go}>
            Top up
          </Button>
        </div>
      )}
    </>
  );
}
