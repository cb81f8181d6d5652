import { Button, Tooltip } from "antd";
import { ask } from "../api/client";
import { isActive, useLiveValue } from "../api/live";
import { useAdvice } from "../api/queries";
import type { AdviceLine, AdviceState, AdviceView, Effect, ProofView } from "../api/types";
import { useAct } from "../app/useAct";
import { useQueryClient } from "@tanstack/react-query";
import { endedTest, whyNone } from "./ended";

interface Props {
  proof: ProofView | undefined;
  /** Shows two proofs beside each other, the first as A. */
  compare: (without: number, withIt: number) => void;
}

const signed = (ratio: number) => {
  const p = (ratio - 1) * 100;
  return `${p < 0 ? "−" : "+"}${Math.abs(p).toFixed(Math.abs(p) < 9.95 ? 1 : 0)} %`;
};

function words(e: Effect): string {
  return `a camera sample's time ${signed(e.time)}, its variance ${signed(e.variance)}`;
}

function Line({ line, view, compare }: { line: AdviceLine; view: AdviceView; compare: Props["compare"] }) {
  const act = useAct();
  const queries = useQueryClient();
  const { advice, state, came } = line;
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
        <Tooltip title={`Foretold time at equal grain: ${words(advice.effect)}`}>
          <b>{signed(advice.effect.equal)}</b>
        </Tooltip>
        {came && (
          <Tooltip title={`What came: ${words(came.effect)}`}>
            <button onClick={() => compare(came.without, came.with)} data-testid="came">
              {`came ${signed(came.effect.equal)}`}
            </button>
          </Tooltip>
        )}
      </span>
      <span className="advice-text">
        <b>{advice.title}</b>
        <span className="second">{` ${advice.why}.`}</span>
      </span>
      <span className="advice-acts">
        {state === "new" || state === "tried" ? (
          <>
            {can && (
              <Button size="small" onClick={() => take("applied")}>
                Apply
              </Button>
            )}
            {can && (
              <Tooltip title="Renders this part without the change and with it, and compares">
                <Button size="small" type="text" onClick={() => take("tried")}>
                  {state === "tried" ? (came ? "Test again" : "testing …") : "Test it"}
                </Button>
              </Tooltip>
            )}
            <Button size="small" type="text" onClick={() => take("dismissed")}>
              Dismiss
            </Button>
          </>
        ) : state === "applied" ? (
          <span className="second">{came ? "applied" : "applied; the next test shows what came"}</span>
        ) : (
          <button className="second" onClick={() => take("new")}>
            dismissed · bring back
          </button>
        )}
      </span>
    </li>
  );
}

/** What follows from the ledgers: what to change, why, and what it should bring. */
export function AdviceList({ proof, compare }: Props) {
  const act = useAct();
  const running = useLiveValue((l) => isActive(l.test?.progress));
  const ended = endedTest(proof);
  const view = useAdvice(ended?.id ?? null, ended?.report?.samples ?? 0).data;
  if (!view) return <p className="empty">{whyNone(proof, "what to change")}</p>;
  return (
    <div className="causes">
      <div className="causes-head">
        <span>
          {`From proof ${view.proof_number}. The figure is the time that the same grain would take.`}
        </span>
        <span className="grow" />
        {view.wants_pilot && (
          <Tooltip title="Short trials of the same part: as it is, with four times the rays of each kind at every first hit and with fewer, with earlier and later roulette. They stand in the sheet while they render and go afterwards.">
            <Button
              size="small"
              onClick={() => void act(() => ask("POST", `/api/proofs/${view.proof}/trials`))}
              data-testid="pilot"
              disabled={running}
            >
              {running ? "a test is rendering …" : "Find out whether splits and roulette pay"}
            </Button>
          </Tooltip>
        )}
      </div>
      {view.lines.length === 0 ? (
        <p className="empty">
          {view.wants_pilot
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
