import { Button, Progress as Bar, Switch, Tooltip } from "antd";
import { isActive, type LiveTest } from "../api/live";
import type { Phase, ProofView, Region, ShotView } from "../api/types";
import { count, duration, percent } from "../app/format";

export const phaseText: Record<Phase, string> = {
  waiting: "waiting",
  loading: "loading the scene",
  structure: "building the structure",
  lights: "preparing lights",
  first_look: "first look",
  sampling: "sampling",
  denoise: "denoising",
  writing: "keeping the test",
  done: "done",
  stopped: "stopped",
  failed: "failed",
};

interface Props {
  shot: ShotView;
  region: Region | null;
  test: LiveTest | null;
  live: boolean;
  setLive: (l: boolean) => void;
  start: () => void;
  stop: () => void;
  shown: ProofView | undefined;
  pull: () => void;
}

export function TestBar({ shot, region, test, live, setLive, start, stop, shown, pull }: Props) {
  const mine = test && test.shot === shot.id ? test : null;
  const p = mine?.progress;
  const running = isActive(p);
  const threshold = Number(shot.tuning["sampling.threshold"]);
  const most = Number(shot.tuning["sampling.most"]);
  return (
    <div className="testbar" data-testid="testbar" data-phase={p?.phase ?? ""}>
      <Tooltip title={`${region ? "The region only" : "All of the frame"}, from camera ${shot.camera} (T)`}>
        <Button type="primary" className="main-action" onClick={start}>
          {region ? "Test region" : "Test whole frame"}
        </Button>
      </Tooltip>
      <Button onClick={stop} disabled={!running}>
        Stop
      </Button>
      <Tooltip title="Live: a change of the tuning starts the test again by itself (L)">
        <label className="live">
          <Switch size="small" checked={live} onChange={setLive} aria-label="Live" /> live
        </label>
      </Tooltip>
      {p && (
        <div className="progress">
          <Bar
            percent={Math.round(p.share * 100)}
            size="small"
            showInfo={false}
            strokeColor="#36566B"
            status="normal"
          />
          <span data-testid="phase">
            {mine?.fault ? `${mine.fault.what}; ${mine.fault.remedy}` : phaseText[p.phase]}
          </span>
          <span className="num">{percent(p.share, 0)}</span>
          <Tooltip title={`${count(p.samples)} samples`}>
            <span className="num">
              {p.samples_per_pixel.toFixed(p.samples_per_pixel < 10 ? 1 : 0)} of {most} spp
            </span>
          </Tooltip>
          <span className="num">
            {duration(p.elapsed)}
            {running && p.remaining !== null && `, ends ≈ ${duration(p.elapsed + p.remaining)}`}
          </span>
          {p.grain !== null && (
            <span className="num">
              grain <b>{percent(p.grain)}</b> → {percent(threshold)}
            </span>
          )}
          <span className="num">
            {percent(p.settled, 0)} settled{p.capped > 0 && `, ${percent(p.capped, 0)} capped`}
          </span>
        </div>
      )}
      {!p && (
        <div className="progress second">
          Nothing is running. A test uses the tuning at the right; it never changes the final.
        </div>
      )}
      <Tooltip title={shown?.kept ? "This proof is kept already" : "Keep the shown test as a proof (P)"}>
        <Button onClick={pull} disabled={!shown || shown.kept || shown.state === "running"}>
          {shown?.kept ? "Proof kept" : "Pull proof"}
        </Button>
      </Tooltip>
    </div>
  );
}
