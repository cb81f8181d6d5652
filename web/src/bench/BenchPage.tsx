import { Button, Modal, Segmented, Select, Tooltip } from "antd";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { ask } from "../api/client";
import { isActive, useLive } from "../api/live";
import { useForecast, useKnobs, useLegends, useProofs, useShot } from "../api/queries";
import type { FinalView, Layer, ProofView, Region, ShotView } from "../api/types";
import { duration, spoken } from "../app/format";
import { useAct } from "../app/useAct";
import { Legend } from "./Legend";
import { lookOf } from "./look";
import { NumberField } from "./NumberField";
import { ProofSheet, proofTitle } from "./ProofSheet";
import { rescaled, fitted } from "./region";
import { Stage, type CompareMode } from "./Stage";
import { TestBar } from "./TestBar";
import { TimeBill } from "./TimeBill";
import { TuningPanel } from "./TuningPanel";
import { usePicture } from "./usePicture";

const layers: [Layer, string][] = [
  ["picture", "Picture"],
  ["grain", "Grain"],
  ["samples", "Samples"],
  ["albedo", "Albedo"],
  ["normal", "Normal"],
];

/** The region of a shot, remembered on this machine and kept relative to the frame. */
function useRegion(shot: number, frame: [number, number]): [Region | null, (r: Region | null) => void] {
  const key = `region ${shot}`;
  const read = (): { region: Region; frame: [number, number] } | null =>
    JSON.parse(localStorage.getItem(key) ?? "null");
  const [kept, keep] = useState(read);
  const set = (region: Region | null) => {
    const value = region && { region, frame };
    localStorage.setItem(key, JSON.stringify(value));
    keep(value);
  };
  return [kept && rescaled(kept.region, kept.frame, frame), set];
}

function RegionBar({
  region,
  set,
  frame,
}: {
  region: Region | null;
  set: (r: Region | null) => void;
  frame: [number, number];
}) {
  if (!region)
    return (
      <span className="region-bar second">
        Whole frame {frame[0]} × {frame[1]} · drag on the picture for a region
      </span>
    );
  const field = (k: keyof Region, label: string) => (
    <NumberField
      label={label}
      whole
      value={region[k]}
      onCommit={(v) => set(fitted({ ...region, [k]: v }, frame))}
    />
  );
  return (
    <span className="region-bar">
      Region {field("x", "Region x")}
      {field("y", "Region y")} <span className="second">size</span> {field("width", "Region width")}
      {field("height", "Region height")}
      <Tooltip title="Forget the region (W)">
        <Button size="small" onClick={() => set(null)}>
          Whole frame
        </Button>
      </Tooltip>
    </span>
  );
}

const shortcuts: [string, string][] = [
  ["T", "test the region, or the whole frame"],
  ["S", "stop the test"],
  ["L", "live mode on or off"],
  ["W", "whole frame: forget the region"],
  ["P", "pull the shown test as a proof"],
  ["1 … 5", "picture, grain, samples, albedo, normal"],
  ["C", "compare: off, wipe, flicker"],
  ["X", "swap A and B"],
  ["Z, Shift Z", "undo, redo of the tuning"],
  ["Arrows", "nudge the region, with Shift by 10 pixels"],
  ["Wheel, right drag", "zoom to pixels, pan"],
  ["?", "this list"],
];

function Bench({ shot }: { shot: ShotView }) {
  const knobs = useKnobs().data ?? [];
  const proofsQuery = useProofs(shot.id);
  const proofs = useMemo(() => proofsQuery.data ?? [], [proofsQuery.data]);
  const forecast = useForecast(shot.id);
  const { test } = useLive();
  const act = useAct();
  const go = useNavigate();

  const frame = useMemo<[number, number]>(
    () => [Number(shot.tuning["frame.width"]), Number(shot.tuning["frame.height"])],
    [shot.tuning],
  );
  const [region, setRegion] = useRegion(shot.id, frame);
  const [chosen, choose] = useState<number | null>(null);
  const [otherId, setOther] = useState<number | null>(null);
  const [layer, setLayer] = useState<Layer>("picture");
  const [mode, setMode] = useState<CompareMode>("off");
  const [live, setLive] = useState(false);
  const [help, setHelp] = useState(false);
  const [asking, setAsking] = useState(false);

  const shown: ProofView | undefined = proofs.find((p) => p.id === chosen) ?? proofs[0];
  const other = proofs.find((p) => p.id === otherId);
  const look = useMemo(() => lookOf(shot), [shot]);
  const isLive = test?.proof === shown?.id && isActive(test?.progress);
  // The last report after the end brings the finished picture.
  const version = test?.proof === shown?.id ? (test?.version ?? 0) : 0;
  const picture = usePicture(shown?.id ?? null, layer, look, version);
  const otherPicture = usePicture(other?.id ?? null, layer, look, 0);
  const whole = proofs.find(
    (p) =>
      p.region === null &&
      p.state !== "running" &&
      p.frame[0] === frame[0] &&
      p.frame[1] === frame[1] &&
      p.id !== shown?.id,
  );
  const backdrop = usePicture(shown?.region ? (whole?.id ?? null) : null, "picture", look, 0);
  const wantLegend = layer === "grain" || layer === "samples";
  const legends = useLegends(shown?.id ?? null, look.threshold, Math.floor(version / 4), wantLegend);

  const start = useCallback(async () => {
    const proof = await act(() =>
      ask<ProofView>("POST", `/api/shots/${shot.id}/tests`, { region: region ?? undefined }),
    );
    if (proof) choose(proof.id);
  }, [act, shot.id, region]);
  const stop = useCallback(() => void act(() => ask("DELETE", "/api/test")), [act]);
  const set = useCallback(
    (tuning: Record<string, unknown>) => void act(() => ask("PATCH", `/api/shots/${shot.id}`, { tuning })),
    [act, shot.id],
  );
  const pull = useCallback(() => {
    if (shown && !shown.kept && shown.state !== "running")
      void act(() => ask("PATCH", `/api/proofs/${shown.id}`, { kept: true }));
  }, [act, shown]);
  const compare = (id: number | null) => {
    setOther(id);
    setMode(id === null ? "off" : mode === "off" ? "wipe" : mode);
    if (id !== null && id === shown?.id) choose(proofs.find((p) => p.id !== id)?.id ?? null);
  };
  const swap = () => {
    if (!other || !shown) return;
    choose(other.id);
    setOther(shown.id);
  };

  // Live mode: a new revision starts the test again.
  const tested = useRef(shot.revision);
  useEffect(() => {
    if (live && tested.current !== shot.revision) void start();
    tested.current = shot.revision;
  }, [live, shot.revision, start]);

  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      const el = e.target as HTMLElement;
      if (
        e.ctrlKey ||
        e.metaKey ||
        e.altKey ||
        /INPUT|TEXTAREA|SELECT/.test(el.tagName) ||
        el.closest(".ant-modal,.ant-popover")
      )
        return;
      const revision = (n: number | null) =>
        n !== null && void act(() => ask("POST", `/api/shots/${shot.id}/revisions/${n}`));
      const digit = layers[Number(e.key) - 1];
      const arrows: Record<string, [number, number]> = {
        ArrowLeft: [-1, 0],
        ArrowRight: [1, 0],
        ArrowUp: [0, -1],
        ArrowDown: [0, 1],
      };
      const arrow = arrows[e.key];
      if (digit) setLayer(digit[0]);
      else if (arrow && region) {
        const k = e.shiftKey ? 10 : 1;
        setRegion(fitted({ ...region, x: region.x + arrow[0] * k, y: region.y + arrow[1] * k }, frame));
      } else
        switch (e.key) {
          case "t":
            void start();
            break;
          case "s":
            stop();
            break;
          case "l":
            setLive((l) => !l);
            break;
          case "w":
            setRegion(null);
            break;
          case "p":
            pull();
            break;
          case "c":
            if (otherId === null) {
              const second = proofs.find((p) => p.id !== shown?.id && p.state !== "running");
              if (second) setOther(second.id);
              setMode("wipe");
            } else setMode(mode === "off" ? "wipe" : mode === "wipe" ? "flicker" : "off");
            break;
          case "x":
            swap();
            break;
          case "z":
            revision(shot.undo);
            break;
          case "Z":
            revision(shot.redo);
            break;
          case "?":
            setHelp(true);
            break;
          default:
            return;
        }
      e.preventDefault();
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  });

  const finalFrame = `${frame[0]} × ${frame[1]}`;
  const f = forecast.data?.forecast;
  const startFinal = async () => {
    setAsking(false);
    const done = await act(() => ask<FinalView>("POST", `/api/shots/${shot.id}/finals`));
    if (done) await go("/finals");
  };
  const caption = !shown
    ? `camera ${shot.camera} · nothing rendered yet`
    : `${isLive ? "rendering" : "proof"} ${proofTitle(shown)} · camera ${shown.camera} · ${
        shown.region
          ? `region ${shown.region.width} × ${shown.region.height}`
          : `whole frame ${shown.frame[0]} × ${shown.frame[1]}`
      }`;

  return (
    <main className="bench">
      <header className="headline">
        <div className="headline-shot">
          <h1>{shot.name}</h1>
          <span className="second">
            camera{" "}
            <Select
              variant="borderless"
              size="small"
              className="camera"
              value={shot.camera}
              aria-label="Camera"
              popupMatchSelectWidth={false}
              options={shot.cameras.map((c) => ({ value: c, label: c }))}
              onChange={(camera) => void act(() => ask("PATCH", `/api/shots/${shot.id}`, { camera }))}
            />
            {finalFrame} px
          </span>
        </div>
        <TimeBill view={forecast.data} budget={shot.budget} />
        <label className="budget">
          <span className="second">budget, min</span>
          <NumberField
            label="Budget in minutes"
            value={Number((shot.budget / 60).toFixed(3))}
            step={0.5}
            onCommit={(m) => void act(() => ask("PATCH", `/api/shots/${shot.id}`, { budget: m * 60 }))}
          />
        </label>
        <Button onClick={() => setAsking(true)} className="final-action">
          Start final
        </Button>
      </header>

      <div className="work">
        <div className="stage-tools">
          <Segmented<Layer>
            size="small"
            value={layer}
            onChange={setLayer}
            options={layers.map(([value, label]) => ({ value, label }))}
          />
          <RegionBar region={region} set={setRegion} frame={frame} />
          <span className="grow" />
          {other ? (
            <Segmented<CompareMode>
              size="small"
              value={mode}
              onChange={(m) => setMode(m)}
              options={[
                { value: "off", label: "Off" },
                { value: "wipe", label: "Wipe" },
                { value: "flicker", label: "Flicker" },
              ]}
            />
          ) : (
            <span className="second">A|B on a proof compares it</span>
          )}
        </div>
        <div className="stage-frame">
          <Stage
            frame={frame}
            picture={picture}
            other={otherPicture}
            backdrop={backdrop}
            mode={other ? mode : "off"}
            region={region}
            setRegion={setRegion}
            proof={shown?.id ?? null}
            look={look}
            caption={caption}
          />
          {wantLegend && legends.data && <Legend legends={legends.data} layer={layer} />}
        </div>
        <TestBar
          shot={shot}
          region={region}
          test={test}
          live={live}
          setLive={setLive}
          start={() => void start()}
          stop={stop}
          shown={shown}
          pull={pull}
        />
        <div className="tray">
          <div className="tray-head">
            <b>Proofs</b> <span className="pill">{proofs.length}</span>
            <span className="grow" />
            {other && shown && (
              <span className="second">
                A {proofTitle(other)} ↔ B {proofTitle(shown)} ·{" "}
                <button onClick={() => compare(null)}>end comparing</button>
              </span>
            )}
            <button className="second" onClick={() => setHelp(true)}>
              keys ?
            </button>
          </div>
          <ProofSheet
            proofs={proofs}
            shown={shown?.id ?? null}
            other={other?.id ?? null}
            show={choose}
            compare={compare}
          />
        </div>
      </div>

      <TuningPanel shot={shot} knobs={knobs} set={set} shown={shown} other={other} />

      <Modal
        open={asking}
        title={`Start the final of ${shot.name}`}
        okText="Start final"
        onOk={() => void startFinal()}
        onCancel={() => setAsking(false)}
      >
        <ul className="checks">
          <li>
            camera <b>{shot.camera}</b>
          </li>
          <li>
            whole frame, <b>{finalFrame} px</b>
            {region && " (the region is for tests and is ignored)"}
          </li>
          <li>
            denoiser <b>{String(shot.tuning["cleanup.denoise"])}</b>, threshold{" "}
            <b>{(Number(shot.tuning["sampling.threshold"]) * 100).toFixed(2)} %</b>, at most{" "}
            <b>{String(shot.tuning["sampling.most"])}</b> samples
          </li>
          <li className={f && f.seconds > shot.budget ? "over" : ""}>
            {f
              ? `forecast ${duration(f.seconds)}, budget ${spoken(shot.budget)}`
              : `not forecast: test first to know. Budget ${spoken(shot.budget)}`}
          </li>
          <li>files: PNG 16 bit as displayed, OpenEXR 32 bit linear with noisy picture and guides</li>
        </ul>
      </Modal>
      <Modal open={help} title="Keys" footer={null} onCancel={() => setHelp(false)}>
        <table className="keys">
          <tbody>
            {shortcuts.map(([k, what]) => (
              <tr key={k}>
                <td>
                  <kbd>{k}</kbd>
                </td>
                <td>{what}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Modal>
    </main>
  );
}

export function BenchPage() {
  const id = Number(useParams().shot);
  const shot = useShot(id);
  if (shot.error)
    return <main className="missing">{shot.error.message}. Choose a shot from the list of shots.</main>;
  if (!shot.data) return <main className="missing second">opening …</main>;
  return <Bench key={id} shot={shot.data} />;
}
