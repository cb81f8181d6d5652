import { Button, Progress as Bar, Switch, Tooltip } from "antd";
import { ask } from "../api/client";
import { useLive, useLiveValue, useRunning } from "../api/live";
import { memo } from "react";
import { useSettings } from "../api/queries";
import type { Knob, Phase, ProofView, Region, ShotView } from "../api/types";
import { count, duration, percent } from "../app/format";
import { useAct } from "../app/useAct";
import { Drafts } from "./Drafts";
import { GrainChart } from "./GrainChart";

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
  knobs: Knob[];
  region: Region | null;
  live: boolean;
  setLive: (l: boolean) => void;
  start: () => void;
  stop: () => void;
  goOn: () => void;
  shown: ProofView | undefined;
  pull: () => void;
}

export const TestBar = memo(function TestBar(props: Props) {
  const { shot, knobs, region, live, setLive, start, stop, goOn, shown, pull } = props;
  const settings = useSettings().data;
  const act = useAct();
  const running = useRunning(shot.id) !== null;
  const phase = useLiveValue((l) => (l.test?.shot === shot.id ? l.test.progress.phase : ""));
  const unsaved = shown?.state === "unsaved";
  return (
    <div className="testbar" data-testid="testbar" data-phase={phase}>
      <div className="testbar-line">
        <Tooltip title={`${region ? "The region only" : "All of the frame"}, from camera ${shot.camera} (T)`}>
          <Button type="primary" className="main-action" onClick={start}>
            {region ? "Test region" : "Test whole frame"}
            <small>{shot.camera}</small>
          </Button>
        </Tooltip>
        <Button onClick={stop} disabled={!running}>
          Stop
        </Button>
        <Tooltip title="Twice the samples for the shown proof, without starting over (G)">
          <Button onClick={goOn} disabled={!shown || shown.kind === "picture"}>
            Go on
          </Button>
        </Tooltip>
        <Tooltip title="Live: a change of the tuning starts the test again by itself (L)">
          <label className="live">
            <Switch size="small" checked={live} onChange={setLive} aria-label="Live" /> live
          </label>
        </Tooltip>
        <Drafts shot={shot} knobs={knobs} />
        <span className="grow" />
        <Tooltip
          title={
            unsaved
              ? "The disk would not take it. Free some space, then press again"
              : shown?.kept
                ? "This proof is kept already"
                : "Keep the shown test as a proof (P)"
          }
        >
          <Button
            onClick={pull}
            disabled={!shown || (shown.kept && !unsaved) || shown.state === "running"}
            danger={unsaved}
          >
            {shown?.kept && !unsaved ? "Proof kept" : "Pull proof"}
          </Button>
        </Tooltip>
      </div>
      <div className="testbar-line progress">
        <TestProgress shot={shot} shown={shown} />
        <span className="grow" />
        {settings && (
          <Tooltip title="A new seed for each test instead of the shot's own; it is noted on the proof">
            <label className="live">
              <Switch
                size="small"
                checked={settings.new_seed}
                aria-label="New seed for each test"
                onChange={(new_seed) => void act(() => ask("PATCH", "/api/settings", { new_seed }))}
              />{" "}
              new seed
            </label>
          </Tooltip>
        )}
        {settings && settings.threads < settings.cores && (
          <span className="caution">
            {settings.threads} of {settings.cores} threads
          </span>
        )}
      </div>
    </div>
  );
});

/** What is known of a proof that has ended. */
function Ended({ proof }: { proof: ProofView }) {
  const r = proof.report;
  return (
    <span className="second" data-testid="ended">
      {`Proof ${proof.number}${r ? `: ${duration(r.seconds)} of sampling, ${r.samples_per_pixel.toFixed(r.samples_per_pixel < 10 ? 1 : 0)} spp, noise ${percent(r.grain)}, ${percent(r.settled, 0)} converged` : ""}. Nothing is running.`}
    </span>
  );
}

/** How far the test is, or what the shown proof came to; the only part of the bar that follows every report. */
function TestProgress({ shot, shown }: { shot: ShotView; shown: ProofView | undefined }) {
  const { test } = useLive();
  const mine = test && test.shot === shot.id ? test : null;
  const running = useRunning(shot.id) !== null;
  // Of a test that has ended the line tells while it is shown.
  const p = running || mine?.fault || !shown || mine?.proof === shown.id ? mine?.progress : undefined;
  const threshold = mine?.threshold ?? shot.threshold;
  const most = mine?.most ?? null;
  if (!p && shown && shown.state !== "running") return <Ended proof={shown} />;
  return (
    <>
      {p ? (
        <>
          <Bar
            percent={Math.round(p.share * 100)}
            size="small"
            showInfo={false}
            strokeColor="#36566B"
            status="normal"
          />
          <span data-testid="phase" className={mine?.fault || mine?.stalled ? "caution" : ""}>
            {mine?.fault
              ? `${mine.fault.what}; ${mine.fault.remedy}`
              : mine?.stalled
                ? `${phaseText[p.phase]}: ${mine.stalled}`
                : phaseText[p.phase]}
          </span>
          <span className="num">{percent(p.share, 0)}</span>
          <Tooltip title={`${count(p.samples)} samples`}>
            <span className="num">
              {p.samples_per_pixel.toFixed(p.samples_per_pixel < 10 ? 1 : 0)}
              {most !== null && p.samples_per_pixel <= most && ` of ${most}`} spp
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
          <GrainChart progress={p} threshold={threshold} />
          {p.in_a_minute !== null && p.grain !== null && (
            <span className="num second">+1 min: {percent(p.in_a_minute)}</span>
          )}
        </>
      ) : (
        <span className="second">
          Nothing is running. A test uses the tuning at the right and the drafts above; it never changes the
          final.
        </span>
      )}
    </>
  );
}
