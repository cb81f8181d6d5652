import { memo } from "react";
import { Tooltip } from "antd";
import type { CauseKind, ForecastView } from "../api/types";
import { duration, percent, spoken } from "../app/format";

const causes: Record<CauseKind, { label: string; colour: string; knob: string }> = {
  start: { label: "Start", colour: "#8A867C", knob: "loading, structure and light tables of the scene" },
  camera: { label: "Camera", colour: "#B9C4CC", knob: "sampling.most and sampling.threshold" },
  direct: { label: "Direct", colour: "#7C98AC", knob: "sampling.most: one ray to a light at every bounce" },
  diffuse: { label: "Diffuse", colour: "#36566B", knob: "depth.diffuse" },
  reflection: { label: "Reflection", colour: "#B8A98A", knob: "depth.reflection" },
  transmission: { label: "Transmission", colour: "#C98B50", knob: "depth.transmission" },
  volume: { label: "Volume", colour: "#93A87E", knob: "depth.volume and haze.density" },
  clean_up: { label: "Clean-up", colour: "#6B5470", knob: "cleanup.denoise" },
  files: { label: "Files", colour: "#55524B", knob: "frame size" },
};

/** The forecast of the final, cut into causes, against the budget. */
export const TimeBill = memo(function TimeBill({
  view,
  budget,
}: {
  view: ForecastView | null | undefined;
  budget: number;
}) {
  if (!view) {
    return (
      <div className="bill" data-testid="bill">
        <div className="bill-line">
          <span>
            <b>Final</b> not forecast yet
          </span>
          <span className="second">budget {spoken(budget)}</span>
        </div>
        <div className="bill-bar" />
        <div className="bill-key second">
          Test the frame or a region of it: its blocks say how long the final takes.
        </div>
      </div>
    );
  }
  const f = view.forecast;
  const span = Math.max(f.high, budget) * 1.06;
  const over = f.seconds - budget;
  const unsure = f.needs_test.length > 0;
  const basis = f.measured
    ? `measured on proof ${view.proof_number}, the whole frame`
    : `extrapolated from proof ${view.proof_number}, which saw ${percent(f.seen, 0)} of the frame`;
  return (
    <div className="bill" data-testid="bill">
      <div className="bill-line">
        <Tooltip
          title={`Between ${duration(f.low)} and ${duration(f.high)}, ${basis}. About ${f.samples_per_pixel.toFixed(0)} samples a pixel, ${percent(f.settled, 0)} of the picture settled.`}
        >
          <span>
            <b>Final {duration(f.seconds)}</b>{" "}
            <span className="second">
              ({duration(f.low)} to {duration(f.high)})
            </span>
            <span className="second">
              {" "}
              ·{" "}
              {f.measured
                ? `measured, proof ${view.proof_number}`
                : `extrapolated from ${percent(f.seen, 0)}, proof ${view.proof_number}`}
            </span>
          </span>
        </Tooltip>
        <span className={over > 0 ? "over" : "second"}>
          {over > 0
            ? `${spoken(over)} over the ${spoken(budget)} budget`
            : `${spoken(-over)} in hand of ${spoken(budget)}`}
        </span>
      </div>
      <div className="bill-bar">
        {f.causes.map((c) => (
          <Tooltip
            key={c.kind}
            title={`${causes[c.kind].label} ${duration(c.seconds)}. Driven by ${causes[c.kind].knob}.`}
          >
            <span
              className="bill-part"
              style={{ width: `${(c.seconds / span) * 100}%`, background: causes[c.kind].colour }}
            />
          </Tooltip>
        ))}
        <span
          className="bill-spread"
          style={{
            left: `${(Math.max(0, f.low) / span) * 100}%`,
            width: `${((f.high - Math.max(0, f.low)) / span) * 100}%`,
          }}
        />
        <span className="bill-budget" style={{ left: `${(budget / span) * 100}%` }} />
      </div>
      <div className="bill-key">
        {unsure ? (
          <span className="caution">
            {f.needs_test.join(", ")} changed since proof {view.proof_number}: test again to know
          </span>
        ) : (
          f.causes
            .filter((c) => c.seconds >= 0.005 * f.seconds)
            .map((c) => (
              <span key={c.kind}>
                <i style={{ background: causes[c.kind].colour }} />
                {causes[c.kind].label} {duration(c.seconds)}
              </span>
            ))
        )}
      </div>
    </div>
  );
});
