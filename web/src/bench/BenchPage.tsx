import { useQueryClient } from "@tanstack/react-query";
import { Button, InputNumber, Segmented, Tooltip } from "antd";
import { useCallback, useMemo, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { ask } from "../api/client";
import { isActive, useLive } from "../api/live";
import { useForecast, useKnobs, useLegends, useProofs, useShot } from "../api/queries";
import type { FinalView, Layer, ProofView, ShotView } from "../api/types";
import { useAct } from "../app/useAct";
import { usePictureDrop } from "../library/usePictureDrop";
import { CameraPicker } from "./CameraPicker";
import { FinalDialog } from "./FinalDialog";
import { KeysDialog } from "./KeysDialog";
import { Legend } from "./Legend";
import { lookOf, pictureAddress } from "./look";
import { NumberField } from "./NumberField";
import { ProofSheet, proofTitle } from "./ProofSheet";
import { fitted } from "./region";
import { RegionBar } from "./RegionBar";
import { SizeField } from "./SizeField";
import { Stage, type CompareMode, type Side } from "./Stage";
import { TestBar } from "./TestBar";
import { TimeBill } from "./TimeBill";
import { TuningPanel } from "./TuningPanel";
import { useKeys } from "./useKeys";
import { usePicture } from "./usePicture";
import { useRegion } from "./useRegion";
import type { Value } from "./ValueField";

const layers: [Layer, string][] = [
  ["picture", "Picture"],
  ["grain", "Grain"],
  ["samples", "Samples"],
  ["albedo", "Albedo"],
  ["normal", "Normal"],
];

const modes: [CompareMode, string][] = [
  ["off", "Off"],
  ["wipe", "Wipe"],
  ["side", "Side by side"],
  ["flicker", "Flicker"],
  ["difference", "Difference"],
];

/** Most proofs beside the shown one. */
const OTHERS = 3;

function Bench({ shot }: { shot: ShotView }) {
  const knobs = useKnobs().data ?? [];
  const proofsQuery = useProofs(shot.id);
  const proofs = useMemo(() => proofsQuery.data ?? [], [proofsQuery.data]);
  const forecast = useForecast(shot.id);
  const queries = useQueryClient();
  const { test } = useLive();
  const act = useAct();
  const go = useNavigate();

  const frame = useMemo<[number, number]>(
    () => [Number(shot.tuning["frame.width"]), Number(shot.tuning["frame.height"])],
    [shot.tuning],
  );
  const { region, set: setRegion, put, locked, lock } = useRegion(shot.id, frame);
  const [chosen, choose] = useState<number | null>(null);
  const [others, setOthers] = useState<number[]>([]);
  const [referenceId, setReference] = useState<number | null>(null);
  const [layer, setLayer] = useState<Layer>("picture");
  const [mode, setMode] = useState<CompareMode>("off");
  const [gain, setGain] = useState(8);
  const [loupe, setLoupe] = useState(false);
  const [live, setLive] = useState(false);
  const [help, setHelp] = useState(false);
  const [asking, setAsking] = useState(false);

  const running = test?.shot === shot.id && isActive(test.progress) ? test.proof : null;
  const shown: ProofView | undefined = proofs.find((p) => p.id === chosen) ?? proofs[0];
  // A test that has just begun is shown before the sheet knows it.
  const shownId = chosen === null && running !== null ? running : (chosen ?? shown?.id ?? null);
  const beside = others
    .filter((id) => id !== shown?.id)
    .map((id) => proofs.find((p) => p.id === id))
    .filter((p) => p !== undefined);
  const reference = proofs.find((p) => p.id === referenceId);
  const comparing = beside.length > 0 && shown !== undefined;
  // A first, then the shown one as B, then the rest.
  const compared = !shown
    ? []
    : comparing
      ? [beside[0]!, shown, ...beside.slice(1)].map((proof, i) => ({ letter: "ABCD"[i]!, proof }))
      : [{ letter: "", proof: shown }];
  const letters = comparing ? Object.fromEntries(compared.map((s) => [s.proof.id, s.letter])) : {};

  const look = useMemo(() => lookOf(shot), [shot]);
  const isLive = test?.proof === shownId && isActive(test?.progress);
  // The last report after the end brings the finished picture.
  const version = test?.proof === shownId ? (test?.version ?? 0) : 0;
  const ended = (p: ProofView | undefined) => p?.report?.samples ?? 0;
  const picture = usePicture(pictureAddress(shownId, look, layer), version + ended(shown));
  const pictures = [
    usePicture(pictureAddress(beside[0]?.id, look, layer), ended(beside[0])),
    usePicture(pictureAddress(beside[1]?.id, look, layer), ended(beside[1])),
    usePicture(pictureAddress(beside[2]?.id, look, layer), ended(beside[2])),
  ];
  const a = beside[0];
  const map =
    mode === "difference" && a && shown
      ? `/api/difference?a=${a.id}&b=${shown.id}&gain=${gain}`
      : mode === "look" && reference && shown
        ? `/api/look-change?a=${reference.id}&b=${shown.id}&gain=${gain}`
        : null;
  const mapPicture = usePicture(map, ended(shown));
  const whole = proofs.find(
    (p) =>
      p.region === null &&
      p.kind === "test" &&
      p.state !== "running" &&
      p.frame[0] === frame[0] &&
      p.frame[1] === frame[1] &&
      p.id !== shown?.id,
  );
  const backdrop = usePicture(pictureAddress(shown?.region ? whole?.id : null, look, "picture"), 0);
  const wantLegend = layer === "grain" || layer === "samples";
  const legends = useLegends(
    shown?.kind === "picture" ? null : (shown?.id ?? null),
    look.threshold,
    Math.floor(version / 4),
    wantLegend,
  );
  const modeNow: CompareMode = comparing || mode === "look" ? mode : "off";

  /** Puts a new test into the sheet at once and shows it. */
  const started = useCallback(
    (proof: ProofView) => {
      queries.setQueryData<ProofView[]>(["proofs", shot.id], (list) => [
        proof,
        ...(list ?? []).filter((p) => p.id !== proof.id),
      ]);
      choose(proof.id);
    },
    [queries, shot.id],
  );
  const start = useCallback(async () => {
    choose(null);
    const proof = await act(() =>
      ask<ProofView>("POST", `/api/shots/${shot.id}/tests`, { region: region ?? undefined }),
    );
    if (proof) started(proof);
  }, [act, shot.id, region, started]);
  const stop = useCallback(() => void act(() => ask("DELETE", "/api/test")), [act]);
  const change = useCallback(
    async (body: Record<string, unknown>) => {
      // In live mode the test begins with the change, in one request.
      const tests = live && ("tuning" in body || "camera" in body);
      if (tests) choose(null);
      const next = await act(() =>
        ask<ShotView>(
          "PATCH",
          `/api/shots/${shot.id}`,
          tests ? { ...body, test: { region: region ?? undefined, live: true } } : body,
        ),
      );
      if (next) queries.setQueryData(["shot", shot.id], next);
    },
    [act, shot.id, live, region, queries],
  );
  const set = useCallback((tuning: Record<string, Value>) => void change({ tuning }), [change]);
  const goOn = async () => {
    if (shown && shown.kind !== "picture")
      await act(() => ask("POST", `/api/proofs/${shown.id}/further`, {}));
  };
  const pull = useCallback(() => {
    if (shown && (!shown.kept || shown.state === "unsaved") && shown.state !== "running")
      void act(() => ask("PATCH", `/api/proofs/${shown.id}`, { kept: true }));
  }, [act, shown]);
  const compare = (id: number) => {
    const inside = others.includes(id);
    const next = inside ? others.filter((o) => o !== id) : [...others, id].slice(-OTHERS);
    setOthers(next);
    if (!inside && id === shown?.id) choose(proofs.find((p) => !next.includes(p.id))?.id ?? null);
    setMode(next.length === 0 ? "off" : mode === "off" || mode === "look" ? "wipe" : mode);
  };
  const endComparing = () => {
    setOthers([]);
    setMode("off");
  };
  const swap = () => {
    if (!a || !shown) return;
    choose(a.id);
    setOthers([shown.id, ...others.filter((o) => o !== a.id && o !== shown.id)]);
  };
  const drop = usePictureDrop(shot.id);

  useKeys((e) => {
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
        case "g":
          void goOn();
          break;
        case "l":
          setLive((l) => !l);
          break;
        case "w":
          lock(false);
          put(null);
          break;
        case "k":
          lock(!locked);
          break;
        case "p":
          pull();
          break;
        case "f":
          if (shown) void act(() => ask("PATCH", `/api/proofs/${shown.id}`, { star: !shown.star }));
          break;
        case "c":
          if (!comparing) {
            const second = proofs.find((p) => p.id !== shown?.id && p.state !== "running");
            if (second) setOthers([second.id]);
            setMode("wipe");
          } else {
            const at = modes.findIndex(([m]) => m === mode);
            setMode(modes[(at + 1) % modes.length]![0]);
          }
          break;
        case "x":
          swap();
          break;
        case "o":
          setLoupe((l) => !l);
          break;
        case "d":
          void act(() => ask("PUT", `/api/shots/${shot.id}/overlays`, []));
          break;
        case "[":
        case "]": {
          const at = proofs.findIndex((p) => p.id === shown?.id) + (e.key === "[" ? 1 : -1);
          if (proofs[at]) choose(proofs[at].id);
          break;
        }
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
          return false;
      }
    return true;
  });

  const startFinal = async () => {
    setAsking(false);
    const done = await act(() => ask<FinalView>("POST", `/api/shots/${shot.id}/finals`));
    if (done) await go("/finals");
  };
  const caption = !shown
    ? `camera ${shot.camera} · nothing rendered yet`
    : `${isLive ? "rendering" : "proof"} ${proofTitle(shown)} · ${
        shown.camera ? `camera ${shown.camera}` : "from elsewhere"
      } · ${
        shown.region
          ? `region ${shown.region.width} × ${shown.region.height}`
          : `whole frame ${shown.frame[0]} × ${shown.frame[1]}`
      }${shown.overlays.length ? ` · drafts ${shown.overlays.join(", ")}` : ""}`;
  const sides: Side[] = comparing
    ? compared.map((s) => ({
        letter: s.letter,
        picture: s.proof.id === shown?.id ? picture : (pictures[beside.indexOf(s.proof)] ?? null),
      }))
    : [{ letter: "", picture }];

  return (
    <main className="bench" {...drop.handlers}>
      <header className="headline">
        <div className="headline-shot">
          <h1>{shot.name}</h1>
          <span className="second">
            <CameraPicker shot={shot} choose={(camera) => void change({ camera })} />
            <SizeField shot={shot} set={set} />
          </span>
        </div>
        <TimeBill view={forecast.data} budget={shot.budget} />
        <label className="budget">
          <span className="second">budget, min</span>
          <NumberField
            label="Budget in minutes"
            value={Number((shot.budget / 60).toFixed(3))}
            step={0.5}
            onCommit={(m) => void change({ budget: m * 60 })}
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
          <RegionBar
            shot={shot.id}
            region={region}
            put={put}
            locked={locked}
            lock={lock}
            frame={frame}
            started={started}
          />
          <span className="grow" />
        </div>
        <div className="stage-frame">
          <Stage
            frame={frame}
            sides={sides}
            map={mapPicture}
            backdrop={backdrop}
            mode={modeNow}
            region={region}
            setRegion={setRegion}
            locked={locked}
            loupe={loupe}
            proof={shown?.id ?? null}
            look={look}
            layer={layer}
            caption={caption}
          />
          {(comparing || reference) && (
            <div className="stage-modes">
              <Segmented<CompareMode>
                size="small"
                value={modeNow}
                onChange={setMode}
                options={[
                  ...modes
                    .filter(([m]) => comparing || m === "off")
                    .map(([value, label]) => ({ value, label })),
                  ...(reference ? [{ value: "look" as const, label: "Look change" }] : []),
                ]}
              />
              {(modeNow === "difference" || modeNow === "look") && (
                <label>
                  amplified{" "}
                  <InputNumber
                    size="small"
                    min={1}
                    max={200}
                    value={gain}
                    aria-label="Amplification"
                    onChange={(v) => setGain(v ?? 8)}
                  />
                  <span className="two-hues">
                    <i className="less" /> darker <i className="more" /> brighter
                  </span>
                </label>
              )}
              <Tooltip title="The same spot of all, pixel by pixel (O)">
                <Button size="small" type={loupe ? "primary" : "default"} onClick={() => setLoupe(!loupe)}>
                  Loupe
                </Button>
              </Tooltip>
            </div>
          )}
          {wantLegend && legends.data && modeNow === "off" && (
            <Legend legends={legends.data} layer={layer as "grain" | "samples"} />
          )}
        </div>
        <TestBar
          shot={shot}
          knobs={knobs}
          region={region}
          test={test}
          live={live}
          setLive={setLive}
          start={() => void start()}
          stop={stop}
          goOn={() => void goOn()}
          shown={shown}
          pull={pull}
        />
        <div className="tray">
          <ProofSheet
            head={
              <>
                <b>Proofs</b> <span className="pill">{proofs.length}</span>
                {drop.over && <span className="caution">drop pictures to lay them into the sheet</span>}
                {drop.busy && <span className="second">{drop.busy}</span>}
              </>
            }
            tail={
              <>
                {comparing ? (
                  <span className="second">
                    {compared.map((s) => `${s.letter} ${proofTitle(s.proof)}`).join(" ↔ ")} ·{" "}
                    <button onClick={endComparing}>end comparing</button>
                  </span>
                ) : (
                  <span className="second">A|B on a proof compares it</span>
                )}
                <button className="second" onClick={() => setHelp(true)}>
                  keys ?
                </button>
              </>
            }
            proofs={proofs}
            shown={shown?.id ?? null}
            letters={letters}
            reference={referenceId}
            show={choose}
            compare={compare}
            setReference={(id) => {
              setReference(id);
              if (id === null && mode === "look") setMode("off");
            }}
          />
        </div>
      </div>

      <TuningPanel shot={shot} knobs={knobs} set={set} compared={compared} reference={reference} />

      {asking && (
        <FinalDialog
          shot={shot}
          region={region}
          forecast={forecast.data}
          start={() => void startFinal()}
          close={() => setAsking(false)}
        />
      )}
      {help && <KeysDialog close={() => setHelp(false)} />}
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
