import { memo } from "react";
import { Button, Tooltip } from "antd";
import type { CauseKind, ForecastView, Seen } from "../api/types";
import { duration, percent, size, spoken, fileKind, within } from "../app/format";

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

/** In words, what the forecast rests on; the whole of it, and what is not used. */
function basisOf(view: ForecastView): string {
  const f = view.forecast;
  if (f.measured)
    return `${view.judged_anew ? "judged anew from" : f.counted ? "measured by" : "from the grain of"} ${view.by}`;
  return `${seenAs[f.basis]} ${view.by}, saw ${percent(f.seen, 0)}`;
}

const seenAs: Record<Seen, string> = {
  all: "from the grain of",
  scattered: "from squares all over the frame of",
  region: "from the region of",
};

function Rests({ view }: { view: ForecastView }) {
  return (
    <>
      {view.rests.length > 1 && (
        <p>Of the frame {view.rests.map((r) => `${percent(r.share, 0)} by ${r.name}`).join(", ")}.</p>
      )}
      {view.unused.length > 0 && (
        <p data-testid="bill-unused">
          Not used: {view.unused.map((u) => `${u.name} (${u.why})`).join("; ")}.
        </p>
      )}
    </>
  );
}

/** The forecast of the final, cut into causes, against the budget. */
export const TimeBill = memo(function TimeBill({
  view,
  budget,
  pilot,
  fit,
}: {
  view: ForecastView | null | undefined;
  budget: number;
  pilot: () => void;
  fit: () => void;
}) {
  const acts = (
    <span className="bill-acts">
      <Tooltip title="Squares all over the frame at full resolution, for a twentieth of the budget; their samples count for the final (Y)">
        <Button size="small" onClick={pilot}>
          Pilot
        </Button>
      </Tooltip>
      <Tooltip title="The best that the budget buys, line by line (M)">
        <Button size="small" onClick={fit}>
          Fit …
        </Button>
      </Tooltip>
    </span>
  );
  if (!view) {
    return (
      <div className="bill" data-testid="bill">
        <div className="bill-line">
          <span>
            <b>Final</b> not forecast yet
          </span>
          <span className="second">budget {spoken(budget)}</span>
          {acts}
        </div>
        <div className="bill-bar" />
        <div className="bill-key second">
          A pilot says how long the final takes; so does any test of the frame or of a region, less surely.
        </div>
      </div>
    );
  }
  const f = view.forecast;
  const span = Math.max(f.high, budget) * 1.06;
  const over = f.seconds - budget;
  const unsure = view.changed.length > 0;
  const held =
    f.history > 0
      ? ` ${f.history} finals of this machine took ${f.factor.toFixed(2)} times their forecast; that is counted in.`
      : "";
  const anew = view.judged_anew
    ? ` Its grain was judged anew from its halves, after the clean-up and through the view of now.`
    : "";
  const files = f.files.map((x) => `${fileKind(x.kind)} ${size(x.bytes)}`).join(", ");
  return (
    <div className="bill" data-testid="bill">
      <div className="bill-line">
        <Tooltip
          title={
            <>
              <p>
                {`${within(f)} It is told ${basisOf(view)}. About ${f.samples_per_pixel.toFixed(0)} samples a pixel, ${percent(f.settled, 0)} of the picture settled; grain ${percent(f.grain, 2)}. Memory ${size(f.memory)}; files ${files}.${anew}${held}`}
              </p>
              <Rests view={view} />
            </>
          }
        >
          <span>
            <b>Final {duration(f.seconds)}</b>{" "}
            <span className="second">
              ({duration(f.low)} to {duration(f.high)})
            </span>
            <span className="second"> · {basisOf(view)}</span>
          </span>
        </Tooltip>
        <span className={over > 0 ? "over" : "second"}>
          {over > 0
            ? `${spoken(over)} over the ${spoken(budget)} budget`
            : `${spoken(-over)} in hand of ${spoken(budget)}`}
        </span>
        {acts}
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
        {unsure && view.judging ? (
          <span className="second">
            The grain of {view.by} is being judged anew from its halves; the forecast follows.
          </span>
        ) : unsure ? (
          <span className="caution">
            {view.changed.join(", ")} changed since {view.by}: a pilot is needed to know
          </span>
        ) : (
          <>
            {view.marks.length > 0 && (
              <Tooltip
                title={`${view.by[0]!.toUpperCase()}${view.by.slice(1)}: ${view.marks.join("; ")}. A pilot on a free machine tells more.`}
              >
                <span className="caution" data-testid="bill-marks">
                  {view.marks[0]!.split(":")[0]}
                  {f.beside > 1.1 * f.seconds && `, ${duration(f.beside)} if that goes on`}
                </span>
              </Tooltip>
            )}
            {f.causes
              .filter((c) => c.seconds >= 0.005 * f.seconds)
              .map((c) => (
                <span key={c.kind}>
                  <i style={{ background: causes[c.kind].colour }} />
                  {causes[c.kind].label} {duration(c.seconds)}
                </span>
              ))}
          </>
        )}
      </div>
    </div>
  );
});
