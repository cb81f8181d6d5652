import { Button, Checkbox, InputNumber, Modal, Segmented, Select } from "antd";
import { useState } from "react";
import { useFit } from "../api/queries";
import type { FitRow, ProofView, ShotView, Wanted, WayOut } from "../api/types";
import { duration, percent, spoken, steps } from "../app/format";
import { Curve } from "./Curve";

interface Props {
  shot: ShotView;
  proofs: ProofView[];
  take: (change: { tuning: Record<string, number | boolean | string>; budget?: number }) => void;
  pilot: () => void;
  close: () => void;
}

type Mode = "minutes" | "threshold" | "proof";

const signed = (seconds: number) => `${seconds < 0 ? "−" : "+"}${duration(Math.abs(seconds))}`;

const grainer = (grain: number) =>
  Math.abs(grain) < 5e-5 ? "–" : `${grain < 0 ? "−" : "+"}${percent(Math.abs(grain), 2)}`;

function Row({ row, take }: { row: FitRow; take: (on: boolean) => void }) {
  return (
    <tr className={row.taken ? "" : "second"} data-testid="fit-row" data-key={row.key}>
      <td>
        <Checkbox checked={row.taken} onChange={(e) => take(e.target.checked)} aria-label={row.title} />
      </td>
      <td>
        <b>{row.title}</b>
        <div className="second">{row.why}</div>
        {row.lost > 0.5 && (
          <div className="caution" data-testid="fit-lost">
            {`${spoken(row.lost)} of samples that are there could not be used`}
          </div>
        )}
      </td>
      <td className="num">{signed(row.seconds)}</td>
      <td className="num">{row.loss !== null ? `${row.loss.toFixed(2)} of 255` : grainer(row.grain)}</td>
    </tr>
  );
}

/** Finds the tuning for given minutes, or the minutes for a given cleanness; every line can be refused. */
export function FitDialog({ shot, proofs, take, pilot, close }: Props) {
  const [mode, setMode] = useState<Mode>("minutes");
  const [minutes, setMinutes] = useState(shot.budget / 60);
  const [threshold, setThreshold] = useState(100 * Number(shot.tuning["sampling.threshold"]));
  const measured = proofs.filter((p) => p.state === "done" && p.kind === "test" && p.report);
  const [proof, setProof] = useState<number | null>(measured[0]?.id ?? null);
  const [without, setWithout] = useState<string[]>([]);
  const [insist, setInsist] = useState<string[]>([]);
  const [smaller, setSmaller] = useState(false);
  const [denoise, setDenoise] = useState(false);
  const noisy = shot.tuning["cleanup.denoise"] === "none";
  const wanted: Wanted = {
    ...(mode === "minutes" ? { seconds: minutes * 60 } : {}),
    ...(mode === "threshold" ? { threshold: threshold / 100 } : {}),
    ...(mode === "proof" && proof !== null ? { proof } : {}),
    without,
    insist,
    ...(mode === "minutes" ? { smaller } : {}),
    denoise: denoise && noisy,
  };
  const view = useFit(shot.id, shot.revision, wanted);
  const fit = view.data?.fit;
  // What it was fitted to is what the final is held to.
  const budget = mode === "minutes" && Math.abs(minutes * 60 - shot.budget) > 0.5 ? minutes * 60 : null;
  const changes = (fit ? Object.keys(fit.changes).length : 0) + (budget === null ? 0 : 1);
  const reach = (way: WayOut) => {
    setMode("minutes");
    if ("cleanup.denoise" in way.changes) setDenoise(true);
    else if ("frame.width" in way.changes) setSmaller(true);
    // As much as the field shows, and enough.
    else setMinutes(Math.ceil((way.budget / 60) * 100) / 100);
  };
  return (
    <Modal
      open
      width={980}
      className="fit"
      title={`Fit ${shot.name} to its budget`}
      onCancel={close}
      footer={
        <>
          <Button onClick={close}>Leave as it is</Button>
          <Button
            type="primary"
            disabled={!fit || changes === 0}
            onClick={() => {
              if (fit)
                take({
                  tuning: fit.changes as Record<string, number | boolean | string>,
                  ...(budget === null ? {} : { budget }),
                });
              close();
            }}
          >
            {`Take ${changes} ${changes === 1 ? "change" : "changes"}`}
          </Button>
        </>
      }
    >
      <div className="fit-ask">
        <Segmented<Mode>
          value={mode}
          onChange={setMode}
          options={[
            { value: "minutes", label: "I have minutes" },
            { value: "threshold", label: "I want a threshold" },
            { value: "proof", label: "A proof is clean enough", disabled: measured.length === 0 },
          ]}
        />
        {mode === "minutes" && (
          <InputNumber
            aria-label="Minutes"
            value={minutes}
            min={0.05}
            step={1}
            suffix="min"
            onChange={(v) => v && setMinutes(v)}
          />
        )}
        {mode === "threshold" && (
          <InputNumber
            aria-label="Threshold"
            value={threshold}
            min={0.05}
            max={100}
            step={0.1}
            suffix="%"
            onChange={(v) => v && setThreshold(v)}
          />
        )}
        {mode === "proof" && (
          <Select
            aria-label="Proof"
            value={proof}
            onChange={setProof}
            options={measured.map((p) => ({
              value: p.id,
              label: `proof ${p.number}${p.name ? ` ${p.name}` : ""}, grain ${percent(p.report!.grain, 2)}`,
            }))}
          />
        )}
        {mode === "minutes" && (
          <Checkbox checked={smaller} onChange={(e) => setSmaller(e.target.checked)}>
            allow a smaller frame
          </Checkbox>
        )}
        {noisy && (
          <Checkbox checked={denoise} onChange={(e) => setDenoise(e.target.checked)}>
            allow a denoiser
          </Checkbox>
        )}
        <span className="grow" />
        {view.data && <span className="second">from {view.data.by}</span>}
      </div>
      {view.data === null && (
        <p className="empty">
          Nothing is measured yet. A pilot renders squares all over the frame for a twentieth of the budget;
          its samples count for the final. <Button onClick={pilot}>Run a pilot</Button>
        </p>
      )}
      {fit && (
        <div className="fit-body">
          <div>
            <p className={fit.fits || mode !== "minutes" ? "fit-verdict" : "fit-verdict over"}>
              {mode === "minutes" ? (
                fit.fits ? (
                  <>
                    <b>{duration(fit.then.seconds)}</b> ({duration(fit.then.low)} to {duration(fit.then.high)}
                    ) of {spoken(fit.budget)}, grain <b>{percent(fit.then.grain, 2)}</b> (
                    {steps(fit.then.grain)} of 255), {percent(fit.then.settled, 0)} of the picture at{" "}
                    {percent(fit.threshold, 2)} or below
                  </>
                ) : (
                  <>
                    {spoken(fit.budget)} are not enough: even the least takes {duration(fit.then.seconds)}
                  </>
                )
              ) : (
                <>
                  <b>{spoken(fit.then.seconds)}</b> needed ({duration(fit.then.low)} to{" "}
                  {duration(fit.then.high)}) for a threshold of {percent(fit.threshold, 2)}
                </>
              )}
              <span className="second">
                {" "}
                · now {duration(fit.now.seconds)} at {percent(fit.now.grain, 2)}
              </span>
            </p>
            <table className="fit-rows">
              <thead>
                <tr>
                  <th />
                  <th>change</th>
                  <th className="num">time</th>
                  <th className="num">grain or look</th>
                </tr>
              </thead>
              <tbody>
                {fit.rows.map((r) => (
                  <Row
                    key={r.key}
                    row={r}
                    take={(on) => {
                      const others = (keys: string[]) => keys.filter((k) => k !== r.key);
                      setWithout(on ? others(without) : [...without, r.key]);
                      setInsist(on ? [...insist, r.key] : others(insist));
                    }}
                  />
                ))}
                {budget !== null && (
                  <tr data-testid="fit-budget">
                    <td />
                    <td>
                      <b>
                        budget {spoken(shot.budget)} → {spoken(budget)}
                      </b>
                      <div className="second">a final with a time limit ends by it</div>
                    </td>
                    <td />
                    <td />
                  </tr>
                )}
                {fit.rows.length === 0 && (
                  <tr>
                    <td colSpan={4} className="second">
                      nothing to change: the tuning fits as it is
                    </td>
                  </tr>
                )}
              </tbody>
              {fit.rows.some((r) => r.taken) && (
                <tfoot>
                  <tr data-testid="fit-together">
                    <td />
                    <td className="second">together, each after those above it</td>
                    <td className="num">{signed(fit.then.seconds - fit.now.seconds)}</td>
                    <td className="num">{grainer(fit.then.grain - fit.now.grain)}</td>
                  </tr>
                </tfoot>
              )}
            </table>
            {view.data?.denoiser_unknown && (
              <p className="caution">
                The samples of {view.data.by} are gone: what a denoiser would bring is known after another
                test or pilot.
              </p>
            )}
            {fit.ways_out.length > 0 && (
              <>
                <h4>
                  What would bring a threshold of {percent(Number(shot.tuning["sampling.threshold"]), 2)}{" "}
                  within reach
                </h4>
                <ul className="fit-ways">
                  {fit.ways_out.map((w) => (
                    <li key={w.title}>
                      <Button type="link" size="small" onClick={() => reach(w)}>
                        {w.title}
                      </Button>{" "}
                      {w.seconds !== null && <span className="second">({duration(w.seconds)})</span>}
                    </li>
                  ))}
                </ul>
              </>
            )}
          </div>
          <Curve fit={fit} />
        </div>
      )}
    </Modal>
  );
}
