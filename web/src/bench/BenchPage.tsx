import { useQueryClient } from "@tanstack/react-query";
import { Button, Segmented } from "antd";
import { useCallback, useMemo, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { ask } from "../api/client";
import { useLiveValue, useRunning } from "../api/live";
import { putProof, useForecast, useKnobs, useProofs, useShot } from "../api/queries";
import type { Layer, NewFinal, Ordered, ProofView, ShotView } from "../api/types";
import { useShotAct } from "../api/useShotAct";
import { useAct } from "../app/useAct";
import { AdviceList } from "../causes/AdviceList";
import { Bounces } from "../causes/Bounces";
import { Causes } from "../causes/Causes";
import { picturePass, type Pass } from "../causes/names";
import { PassPicker } from "../causes/PassPicker";
import { CleanUp } from "../clean/CleanUp";
import { usePictureDrop } from "../library/usePictureDrop";
import { CameraPicker } from "./CameraPicker";
import { FitDialog } from "../fit/FitDialog";
import { FinalDialog } from "./FinalDialog";
import { KeysDialog } from "./KeysDialog";
import { asNoisy, isAsItIs, lookAt, lookOf, type Seen, type Tried } from "./look";
import { NumberField } from "./NumberField";
import { ProofSheet, proofTitle } from "./ProofSheet";
import { fitted } from "./region";
import { RegionBar } from "./RegionBar";
import { SizeField } from "./SizeField";
import type { CompareMode } from "./Stage";
import { modes, StageArea } from "./StageArea";
import { TestBar } from "./TestBar";
import { TimeBill } from "./TimeBill";
import { Tray, type TrayTab } from "./Tray";
import { TuningPanel } from "./TuningPanel";
import { useKeys } from "./useKeys";
import { useRegion } from "./useRegion";
import type { Value } from "./values";

const layers: [Layer, string][] = [
  ["picture", "Picture"],
  ["grain", "Grain"],
  ["samples", "Samples"],
  ["albedo", "Albedo"],
  ["normal", "Normal"],
];

const none: never[] = [];

/** Most proofs beside the shown one. */
const OTHERS = 3;

function Bench({ shot }: { shot: ShotView }) {
  const knobs = useKnobs().data ?? none;
  const proofsQuery = useProofs(shot.id);
  const proofs = useMemo(() => proofsQuery.data?.pages.flatMap((p) => p.list) ?? [], [proofsQuery.data]);
  const allProofs = proofsQuery.data?.pages[0]?.all ?? 0;
  const forecast = useForecast(shot.id);
  const queries = useQueryClient();
  const act = useAct();
  const shotAct = useShotAct(shot.id);
  const go = useNavigate();

  const frame = useMemo<[number, number]>(
    () => [Number(shot.tuning["frame.width"]), Number(shot.tuning["frame.height"])],
    [shot.tuning],
  );
  const { region, set: setRegion, put, locked, lock } = useRegion(shot.id, frame);
  const [chosen, choose] = useState<number | null>(null);
  /** The test that the last change began in live mode. */
  const [begun, setBegun] = useState<number | null>(null);
  const [hold, setHold] = useState(false);
  const [others, setOthers] = useState<number[]>([]);
  const [referenceId, setReference] = useState<number | null>(null);
  const [pass, setPass] = useState<Pass>(picturePass);
  const [tab, setTab] = useState<TrayTab>("proofs");
  const [mode, setMode] = useState<CompareMode>("off");
  /** The noisy original in the clean one's place, or beside it. */
  const [noisy, setNoisy] = useState(false);
  const [pair, setPair] = useState(false);
  const [hints, setHints] = useState({ struck: "", pointed: "" });
  /** Clean-ups that are tried on proofs; the shot keeps its own. */
  const [tried, setTried] = useState<Tried>({});
  const [loupe, setLoupe] = useState(false);
  const [live, setLive] = useState(false);
  const [help, setHelp] = useState(false);
  const [asking, setAsking] = useState(false);
  const [fitting, setFitting] = useState(false);

  const running = useRunning(shot.id);
  const pilots = useLiveValue((l) => l.test?.kind === "pilot");
  const latest = useLiveValue((l) => l.test?.proof ?? 0);
  // The squares of a pilot are a map that is asked for, and trials go in a moment: they do not replace a picture.
  const picture = proofs.find((p) => p.kind !== "pilot" && p.kind !== "trial") ?? proofs[0];
  const shown: ProofView | undefined = proofs.find((p) => p.id === chosen) ?? picture;
  // A test that has just begun is shown before the sheet knows it.
  const isOver = begun !== null && (latest > begun || (latest === begun && running === null));
  const rendered = pilots && picture && picture.kind !== "pilot" ? null : running;
  const newest = Math.max(rendered ?? 0, isOver ? 0 : (begun ?? 0)) || shown?.id;
  const shownId = chosen ?? newest ?? null;
  const beside = useMemo(
    () =>
      others
        .filter((id) => id !== shown?.id)
        .map((id) => proofs.find((p) => p.id === id))
        .filter((p) => p !== undefined),
    [others, proofs, shown?.id],
  );
  const reference = proofs.find((p) => p.id === referenceId);
  const look = useMemo(() => lookOf(shot, hints), [shot, hints]);
  // Once the shot is cleaned up otherwise its tests show that, whatever was tried on them.
  const clean = `${look.denoise} ${look.blend} ${look.stray}`;
  const [cleanBefore, setCleanBefore] = useState(clean);
  if (clean !== cleanBefore) {
    setCleanBefore(clean);
    const asItIs = new Set(proofs.filter((p) => isAsItIs(p)).map((p) => p.id));
    setTried((t) => Object.fromEntries(Object.entries(t).filter(([id]) => asItIs.has(Number(id)))));
  }
  const referenceLook = useMemo(() => lookAt(look, reference, tried), [look, reference, tried]);
  const comparing = beside.length > 0 && shown !== undefined;
  // A first, then the shown one as B, then the rest.
  const compared = useMemo((): Seen[] => {
    if (!shown) return [];
    const at = (letter: string, proof: ProofView, bare = false): Seen => {
      const own = lookAt(look, proof, tried);
      return { letter, proof, look: bare ? asNoisy(own) : own };
    };
    if (beside.length > 0)
      return [beside[0]!, shown, ...beside.slice(1)].map((proof, i) => at("ABCD"[i]!, proof));
    return pair ? [at("A", shown, true), at("B", shown)] : [at("", shown, noisy)];
  }, [shown, beside, pair, noisy, look, tried]);
  const letters = comparing ? Object.fromEntries(compared.map((s) => [s.proof.id, s.letter])) : {};

  const whole = proofs.find(
    (p) =>
      p.region === null &&
      p.kind === "test" &&
      p.state !== "running" &&
      p.camera === shown?.camera &&
      p.frame[0] === frame[0] &&
      p.frame[1] === frame[1] &&
      p.id !== shown?.id,
  );
  const pairs = comparing || (pair && shown !== undefined);
  const modeNow: CompareMode = pairs || mode === "look" ? mode : "off";

  /** Puts a new test into the sheet at once and shows it. */
  const started = useCallback(
    (proof: ProofView) => {
      putProof(queries, proof);
      choose(proof.id);
    },
    [queries],
  );
  const start = useCallback(() => {
    choose(null);
    setHold(true);
    void act(() =>
      ask<ProofView>("POST", `/api/shots/${shot.id}/tests`, { region: region ?? undefined }),
    ).then((proof) => {
      setHold(false);
      if (!proof) return;
      // The picture first, then the sheet.
      setBegun(proof.id);
      setTimeout(() => started(proof), 60);
    });
  }, [act, shot.id, region, started]);
  const stop = useCallback(() => void act(() => ask("DELETE", "/api/test")), [act]);
  const change = useCallback(
    async (body: Record<string, unknown>) => {
      // In live mode the test begins with the change, in one request.
      const tests = live && ("tuning" in body || "camera" in body || "lights" in body);
      if (tests) {
        choose(null);
        setHold(true);
      }
      const next = await act(() =>
        ask<ShotView>(
          "PATCH",
          `/api/shots/${shot.id}`,
          tests ? { ...body, test: { region: region ?? undefined, live: true } } : body,
        ),
      );
      setHold(false);
      if (!next) return;
      const keep = () => queries.setQueryData(["shot", shot.id], next);
      if (!tests) return keep();
      // The picture first, then the panel.
      setBegun(next.running);
      setTimeout(keep, 60);
    },
    [act, shot.id, live, region, queries],
  );
  const set = useCallback((tuning: Record<string, Value>) => void change({ tuning }), [change]);
  const goOn = useCallback(() => {
    if (shown && shown.kind !== "picture") void act(() => ask("POST", `/api/proofs/${shown.id}/further`, {}));
  }, [act, shown]);
  const pull = useCallback(() => {
    if (shown && (!shown.kept || shown.state === "unsaved") && shown.state !== "running")
      void act(() => ask("PATCH", `/api/proofs/${shown.id}`, { kept: true }));
  }, [act, shown]);
  const compare = useCallback(
    (id: number) => {
      const inside = others.includes(id);
      const next = inside ? others.filter((o) => o !== id) : [...others, id].slice(-OTHERS);
      setOthers(next);
      if (!inside && id === shown?.id) choose(proofs.find((p) => !next.includes(p.id))?.id ?? null);
      setMode((m) => (next.length === 0 ? "off" : m === "off" || m === "look" ? "wipe" : m));
    },
    [others, proofs, shown?.id],
  );
  const measureAgainst = useCallback((id: number | null) => {
    setReference(id);
    if (id === null) setMode((m) => (m === "look" ? "off" : m));
  }, []);
  const setRays = useCallback(
    (light: string, split: number) => void change({ lights: { [light]: { split } } }),
    [change],
  );
  /** Shows a pair of proofs, the first as A. */
  const compareTwo = useCallback((a: number, b: number) => {
    choose(b);
    setOthers([a]);
    setMode("wipe");
    setPass(picturePass);
  }, []);
  /** Shows the noisy original and the clean picture with a wipe between them. */
  const showPair = useCallback((on: boolean) => {
    setPair(on);
    setNoisy(false);
    setPass(picturePass);
    if (on) setOthers([]);
    setMode(on ? "wipe" : "off");
  }, []);
  const chooseCamera = useCallback((camera: string) => void change({ camera }), [change]);
  const endComparing = () => {
    setOthers([]);
    setPair(false);
    setMode("off");
  };
  const swap = () => {
    const a = beside[0];
    if (!a || !shown) return;
    choose(a.id);
    setOthers([shown.id, ...others.filter((o) => o !== a.id && o !== shown.id)]);
  };
  const drop = usePictureDrop(shot.id);

  useKeys((e) => {
    const revision = (n: number | null) => n !== null && void shotAct("POST", `/revisions/${n}`);
    const digit = layers[Number(e.key) - 1];
    const arrows: Record<string, [number, number]> = {
      ArrowLeft: [-1, 0],
      ArrowRight: [1, 0],
      ArrowUp: [0, -1],
      ArrowDown: [0, 1],
    };
    const arrow = arrows[e.key];
    if (digit) setPass({ layer: digit[0], part: "" });
    else if (arrow && region) {
      const k = e.shiftKey ? 10 : 1;
      setRegion(fitted({ ...region, x: region.x + arrow[0] * k, y: region.y + arrow[1] * k }, frame));
    } else
      switch (e.key) {
        case "t":
          start();
          break;
        case "s":
          stop();
          break;
        case "g":
          goOn();
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
          if (!pairs) {
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
        case "n":
          setTab("causes");
          break;
        case "b":
          setTab("bounces");
          break;
        case "a":
          setTab("advice");
          break;
        case "u":
          setTab("clean");
          break;
        case "v":
          setNoisy((n) => !n);
          break;
        case "e":
          setTab("proofs");
          break;
        case "y":
          runPilot();
          break;
        case "m":
          setFitting(true);
          break;
        case "d":
          void shotAct("PUT", "/overlays", []);
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

  const runPilot = () => {
    void act(() => ask("POST", `/api/shots/${shot.id}/pilot`));
  };
  const startFinal = async (wanted: NewFinal) => {
    setAsking(false);
    const done = await act(() => ask<Ordered>("POST", `/api/shots/${shot.id}/finals`, wanted));
    if (done) await go("/finals");
  };
  return (
    <main className="bench" {...drop.handlers}>
      <header className="headline">
        <div className="headline-shot">
          <h1>{shot.name}</h1>
          <span className="second">
            <CameraPicker shot={shot} choose={chooseCamera} />
            <SizeField shot={shot} set={set} />
          </span>
        </div>
        <TimeBill view={forecast.data} budget={shot.budget} pilot={runPilot} fit={() => setFitting(true)} />
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
            value={pass.layer}
            onChange={(layer) => setPass({ layer, part: "" })}
            options={layers.map(([value, label]) => ({ value, label }))}
          />
          <PassPicker proof={shown} pass={pass} choose={setPass} />
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
        <StageArea
          shot={shot}
          frame={frame}
          look={look}
          referenceLook={referenceLook}
          pass={pass}
          mode={modeNow}
          setMode={setMode}
          shown={shown}
          shownId={shownId}
          hold={hold}
          compared={compared}
          reference={reference}
          whole={whole}
          region={region}
          setRegion={setRegion}
          locked={locked}
          loupe={loupe}
          setLoupe={setLoupe}
        />
        <TestBar
          shot={shot}
          knobs={knobs}
          region={region}
          live={live}
          setLive={setLive}
          start={start}
          stop={stop}
          goOn={goOn}
          shown={shown}
          pull={pull}
        />
        <Tray tab={tab} choose={setTab} count={allProofs}>
          {(head, tools) =>
            tab === "proofs" ? (
              <ProofSheet
                older={proofsQuery.hasNextPage ? () => void proofsQuery.fetchNextPage() : null}
                head={
                  <>
                    {head}
                    {drop.over && <span className="caution">drop pictures to lay them into the sheet</span>}
                    {drop.busy && <span className="second">{drop.busy}</span>}
                  </>
                }
                tail={
                  <>
                    {comparing && (
                      <>
                        <span className="second tray-compared">
                          {compared.map((s) => `${s.letter} ${proofTitle(s.proof)}`).join(" ↔ ")}
                        </span>
                        <button className="second" onClick={endComparing}>
                          end comparing
                        </button>
                      </>
                    )}
                    <button className="second" onClick={() => setHelp(true)}>
                      keys ?
                    </button>
                    {tools}
                  </>
                }
                proofs={proofs}
                shown={shown?.id ?? null}
                letters={letters}
                reference={referenceId}
                show={choose}
                compare={compare}
                setReference={measureAgainst}
              />
            ) : (
              <>
                <div className="tray-head">
                  {head}
                  <span className="grow" />
                  {shown && <span className="second">{`proof ${proofTitle(shown)}`}</span>}
                  {tools}
                </div>
                {tab === "causes" && (
                  <Causes
                    shot={shot}
                    proof={shown}
                    region={region}
                    pass={pass}
                    show={setPass}
                    setRays={setRays}
                  />
                )}
                {tab === "bounces" && <Bounces shot={shot} proof={shown} set={set} />}
                {tab === "advice" && <AdviceList proof={shown} compare={compareTwo} />}
                {tab === "clean" && (
                  <CleanUp
                    proof={shown}
                    look={lookAt(look, shown, tried)}
                    tried={shown !== undefined && shown.id in tried}
                    attempt={(clean) =>
                      shown && setTried((t) => ({ ...t, [shown.id]: { ...t[shown.id], ...clean } }))
                    }
                    forget={() =>
                      setTried((t) =>
                        Object.fromEntries(Object.entries(t).filter(([id]) => Number(id) !== shown?.id)),
                      )
                    }
                    set={set}
                    pass={pass}
                    show={setPass}
                    noisy={noisy}
                    setNoisy={setNoisy}
                    pair={pair}
                    setPair={showPair}
                    region={region}
                    hint={setHints}
                  />
                )}
              </>
            )
          }
        </Tray>
      </div>

      <TuningPanel
        shot={shot}
        knobs={knobs}
        set={set}
        compared={comparing ? compared : compared.slice(-1)}
        reference={reference}
        referenceLook={referenceLook}
      />

      {asking && (
        <FinalDialog
          shot={shot}
          region={region}
          start={(wanted) => void startFinal(wanted)}
          close={() => setAsking(false)}
        />
      )}
      {fitting && (
        <FitDialog
          shot={shot}
          proofs={proofs}
          take={(body) => void change(body)}
          pilot={runPilot}
          close={() => setFitting(false)}
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
