import { Button, Progress as Bar, Tooltip } from "antd";
import { ask } from "../api/client";
import { isActive, useLiveValue } from "../api/live";
import { useAdvice } from "../api/queries";
import type { AdviceLine, AdviceState, AdviceView, Effect, ProofView } from "../api/types";
import { duration } from "../app/format";
import { useAct } from "../app/useAct";
import { useQueryClient } from "@tanstack/react-query";
import { endedTest, whyNone } from "./ended";

interface Props {
  proof: ProofView | undefined;
  /** Shows two proofs beside each other, the first as A. */
  compare: (without: number, withIt: number) => void;
}

const signed = (ratio: number, digits?: number) => {
  const p = (ratio - 1) * 100;
  return `${p < 0 ? "−" : "+"}${Math.abs(p).toFixed(digits ?? (Math.abs(p) < 9.95 ? 1 : 0))}`;
};

function words(e: Effect): string {
  return `a camera sample's time ${signed(e.time)} %, its variance ${signed(e.variance)} %`;
}

/** Time at equal grain, with its 95 % interval. */
function figure(e: Effect): string {
  const unsure = 100 * e.unsure;
  if (unsure < 0.05) return `${signed(e.equal)} %`;
  // So that what surely pays does not read as if it might not.
  const digits = unsure < 9.95 ? 1 : 0;
  return `${signed(e.equal, digits)} ± ${unsure.toFixed(digits)} %`;
}

function Line({ line, view, compare }: { line: AdviceLine; view: AdviceView; compare: Props["compare"] }) {
  const act = useAct();
  const queries = useQueryClient();
  const { advice, state, came, pays, test } = line;
  const testing = view.at_work?.key === advice.key;
  const take = (to: AdviceState) =>
    void act(() =>
      ask<AdviceView>("POST", `/api/proofs/${view.proof}/advice`, { key: advice.key, state: to }),
    ).then((next) => {
      if (next) void queries.invalidateQueries({ queryKey: ["advice"] });
    });
  const can = Object.keys(advice.changes).length > 0 || advice.lights_off.length > 0;
  return (
    <li className={`advice ${state}`} data-advice={advice.key} data-state={state}>
      <span className="advice-effect num">
        <Tooltip title={`Expected time at equal grain, with its 95 % interval: ${words(advice.effect)}`}>
          {came ? (
            <span className="second">{`expected ${figure(advice.effect)}`}</span>
          ) : (
            <b>{figure(advice.effect)}</b>
          )}
        </Tooltip>
        {came && (
          <Tooltip
            title={`Measured in this shot, with its 95 % interval: ${words(came.effect)}. Shows both proofs`}
          >
            <button onClick={() => compare(came.without, came.with)} data-testid="came">
              {`measured ${figure(came.effect)}`}
            </button>
          </Tooltip>
        )}
      </span>
      <span className="advice-text">
        <b>{advice.title}</b>
        <span className="second">{` ${advice.why}.`}</span>
      </span>
      <span className="advice-acts">
        {testing ? (
          <AtWork view={view} />
        ) : state === "new" || state === "tried" ? (
          <>
            {came && !pays && <span className="second">it does not surely pay here</span>}
            {can && (
              <Button size="small" onClick={() => take("applied")}>
                Apply
              </Button>
            )}
            {can && !came && (
              <Tooltip
                title={
                  test.pays
                    ? "Renders this part without the change and with it, and compares"
                    : `The test takes about ${duration(test.seconds)}, more than the change could save in the final`
                }
              >
                <Button
                  size="small"
                  type="text"
                  disabled={!test.pays || view.at_work !== null}
                  onClick={() => take("tried")}
                >
                  {`Test it${test.pays ? ` (≈ ${duration(test.seconds)})` : ""}`}
                </Button>
              </Tooltip>
            )}
            <Button size="small" type="text" onClick={() => take("dismissed")}>
              Dismiss
            </Button>
          </>
        ) : state === "applied" ? (
          <>
            <span className={came && !pays ? "caution" : "second"}>
              {came
                ? pays
                  ? "applied"
                  : "applied; it does not surely pay here"
                : "applied; the next test measures it"}
            </span>
            <Button size="small" onClick={() => take("new")}>
              Take back
            </Button>
          </>
        ) : (
          <button className="second" onClick={() => take("new")}>
            dismissed · bring back
          </button>
        )}
      </span>
    </li>
  );
}

/** How far the tests for advice are, with the way to end them. */
function AtWork({ view }: { view: AdviceView }) {
  const act = useAct();
  const a = view.at_work;
  if (!a) return null;
  return (
    <span className="advice-work" data-testid="advice-work">
      <Bar
        percent={(100 * a.done) / a.of}
        size="small"
        showInfo={false}
        strokeColor="#36566B"
        status="normal"
      />
      <span className="num">
        {`${Math.min(a.done + 1, a.of)} of ${a.of}${a.what ? `: ${a.what}` : ""}${a.remaining === null ? "" : `, ${duration(a.remaining)} to go`}`}
      </span>
      <Button size="small" onClick={() => void act(() => ask("DELETE", "/api/test"))}>
        Stop
      </Button>
    </span>
  );
}

/** Trials of splits and roulette, with what they take and can bring. */
function TrialsOf({ view }: { view: AdviceView }) {
  const act = useAct();
  const running = useLiveValue((l) => isActive(l.test?.progress));
  const { trials, at_work } = view;
  if (at_work && at_work.key === null) return <AtWork view={view} />;
  if (!trials || at_work) return null;
  const wins = trials.wins === null ? "" : `, could save up to ${duration(trials.wins)} of the final`;
  if (!trials.pays)
    return (
      <span className="second" data-testid="no-trials">
        {`Trials of splits and roulette would take about ${duration(trials.seconds)} and could save at most ${duration(trials.wins ?? 0)} of the final: not worth it.`}
      </span>
    );
  return (
    <Tooltip title="Short trials of the same part: as it is, with four times the rays of each kind at every first hit and with fewer, with earlier and later roulette, as far as each may pay. They stand in the sheet while they render and go afterwards. A test that is running ends.">
      <Button
        size="small"
        onClick={() => void act(() => ask("POST", `/api/proofs/${view.proof}/trials`))}
        data-testid="pilot"
        disabled={running}
      >
        {running
          ? "a test is rendering …"
          : `Find out whether splits and roulette pay (≈ ${duration(trials.seconds)}${wins})`}
      </Button>
    </Tooltip>
  );
}

/** What follows from the ledgers: what to change, why, and what it should bring. */
export function AdviceList({ proof, compare }: Props) {
  const ended = endedTest(proof);
  const view = useAdvice(ended?.id ?? null, ended?.report?.samples ?? 0).data;
  if (!view) return <p className="empty">{whyNone(proof, "what to change")}</p>;
  return (
    <div className="causes">
      <div className="causes-head">
        <span>
          {`From proof ${view.proof_number}. The figure is the change of the time that the same grain takes.`}
        </span>
        <span className="grow" />
        <TrialsOf view={view} />
      </div>
      {view.lines.length === 0 ? (
        <p className="empty">
          {view.trials
            ? "No bounce and no light is wasted here. Whether more rays at the first hit or earlier roulette pay is not known yet."
            : "Nothing to change: no bounce, no light and no split is wasted here."}
        </p>
      ) : (
        <ul className="advice-list" data-testid="advice">
          {view.lines.map((line) => (
            <Line
              key={`${line.advice.key} ${line.state} ${line.advice.title}`}
              line={line}
              view={view}
              compare={compare}
            />
          ))}
        </ul>
      )}
    </div>
  );
}
