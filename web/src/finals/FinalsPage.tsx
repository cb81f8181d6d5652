import { DownloadOutlined } from "@ant-design/icons";
import { Button, Tooltip } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { ask } from "../api/client";
import { useLive } from "../api/live";
import { useFinal, useFinals } from "../api/queries";
import type { FinalTimes, FinalView, Progress, Turn } from "../api/types";
import { phaseText } from "../bench/TestBar";
import { clock, duration, percent, size, spoken, within } from "../app/format";
import { useAct } from "../app/useAct";
import { useDelete } from "../app/useDelete";
import { FinalPicture } from "./FinalPicture";
import { cleanness, verdictHelp } from "./verdict";
import { FinalReportView } from "./FinalReportView";

/** When it should end, by render time and by the clock. */
function end(f: FinalView, p: Progress, t: FinalTimes): string {
  const after = t.ends_after;
  if (after === null) return "";
  const left = Math.max(0, after - t.spent);
  const late = f.policy === "cleanness" && after > f.budget && p.share > 0.05 ? after - f.budget : 0;
  return `, ends after ${duration(after)}, about ${clock(Date.now() / 1000 + left)}${late > 1 ? `: ${spoken(late)} over budget` : ""}`;
}

/** How far a final is: by the clock where it ends by the clock. */
function shareOf(f: FinalView, p: Progress | undefined, t?: FinalTimes): number {
  if (f.state === "delivered") return 1;
  if (f.policy === "time" && !f.planned && t?.ends_after) return Math.min(1, t.spent / t.ends_after);
  return p?.share ?? 0;
}

function state(f: FinalView, p: Progress | undefined, t?: FinalTimes): string {
  switch (f.state) {
    case "waiting":
      if (f.fault) return `waits, and goes on by itself: ${f.fault.what}; ${f.fault.remedy}`;
      return f.top_up ? "waiting to be topped up" : "waiting for its turn";
    case "paused":
      return "paused; what it has rendered is kept";
    case "running":
      if (f.yielding) return "makes way for a test, goes on by itself";
      return p
        ? `${p.phase === "writing" ? "writing the files" : phaseText[p.phase]} · ${percent(shareOf(f, p, t), 0)}${f.planned ? "" : ` · ${percent(p.settled, 0)} settled`}${t ? ` · gone ${duration(t.spent)}${end(f, p, t)}` : ""}`
        : "starting";
    case "delivered":
      return `delivered ${f.ended ? clock(f.ended) : ""} · ${f.files.map((x) => x.name.split(".").at(-1)!.toUpperCase()).join(", ")} · ${size(
        f.files.reduce((s, x) => s + x.bytes, 0),
      )}`;
    case "cancelled":
      return "cancelled; what it has rendered is kept, Resume goes on from there";
    case "failed":
      return f.fault ? `failed: ${f.fault.what}; ${f.fault.remedy}` : "failed";
  }
}

/** It will not end within the budget. */
const late = (f: FinalView, p: Progress | undefined, t: FinalTimes | undefined) =>
  f.policy === "cleanness" && p !== undefined && p.share > 0.05 && (t?.ends_after ?? 0) > f.budget + 1;

function Verdict({ f }: { f: FinalView }) {
  if (f.state !== "delivered" || !f.report) return null;
  const r = f.report;
  // The budget counts every delivery.
  const late = (r.spent || r.total) - f.budget;
  const over = late > f.slack;
  return (
    <>
      {r.verdict && (
        <div data-testid="verdict">
          <Tooltip title={verdictHelp(r.verdict)}>
            <b className={r.verdict.cleanness === "noisy" ? "caution" : ""}>
              {cleanness[r.verdict.cleanness]}
            </b>
            {r.verdict.above > 0 && ` · ${percent(r.verdict.above, r.verdict.above < 0.01 ? 2 : 0)} above`}
          </Tooltip>
        </div>
      )}
      <div className={over ? "over" : "second"}>
        {over
          ? `${spoken(late)} over budget`
          : -late >= f.slack
            ? `${spoken(-late)} inside budget`
            : "within budget"}
        {r.earlier.length > 0 && `, ${r.earlier.length + 1} deliveries`}
      </div>
    </>
  );
}

/** The picture of a final as it is rendered, anew every few seconds. */
function Watched({ id, seconds }: { id: number; seconds: number }) {
  return (
    <img
      data-testid="final-now"
      src={`/api/finals/${id}/now.png?${Math.floor(seconds / (seconds < 20 ? 2 : 10))}`}
      alt=""
    />
  );
}

function Row({
  f,
  chosen,
  choose,
  number,
}: {
  f: FinalView;
  chosen: boolean;
  choose: () => void;
  number: string;
}) {
  const { finals } = useLive();
  const now = f.state === "running" ? finals[f.id] : undefined;
  const p = f.state === "running" ? (now?.progress ?? f.progress ?? undefined) : undefined;
  const times = now?.times ?? f.times ?? undefined;
  const share = shareOf(f, p, times);
  const span = Math.max(f.budget, f.forecast?.high ?? 0, f.report?.total ?? 0) * 1.05;
  const gone = f.report?.total ?? times?.spent ?? 0;
  return (
    <button
      className={`final${chosen ? " chosen" : ""}`}
      onClick={choose}
      data-testid="final"
      data-state={f.state}
    >
      <span className="final-number">{number}</span>
      <span className="final-thumb">
        {f.state === "delivered" && <img src={`/api/finals/${f.id}/files/thumb.png?${f.ended}`} alt="" />}
        {f.state === "running" && (p?.samples ?? 0) > 0 && <Watched id={f.id} seconds={p!.elapsed} />}
      </span>
      <span className="final-main">
        <b>
          {f.shot_name}
          {f.number !== null && ` · frame ${f.number}`}
        </b>
        <span className="second">
          {f.camera} · {f.frame[0]} × {f.frame[1]} px ·{" "}
          {f.planned ? "follows a plan" : `holds the ${f.policy}`}
        </span>
        <span className="final-bar" title="Render time gone; the mark is the budget">
          <i
            style={{
              width: `${Math.min(100, (gone / span) * 100)}%`,
              opacity: f.state === "cancelled" ? 0.3 : 1,
            }}
          />
          <em style={{ left: `${(f.budget / span) * 100}%` }} />
        </span>
        <span className={late(f, p, times) ? "over" : ""}>{state(f, p, times)}</span>
      </span>
      <span className="final-times">
        <span>
          {f.policy === "time" ? `to ${percent(f.threshold)}` : "forecast"}{" "}
          <b>{f.forecast ? duration(f.forecast.seconds) : "none"}</b>
          {f.forecast && (
            <span
              className="second"
              title={within(f.forecast)}
            >{` (${duration(f.forecast.low)} to ${duration(f.forecast.high)})`}</span>
          )}
        </span>
        <span>
          actual <b>{f.report ? duration(f.report.total) : times ? `${duration(times.spent)} …` : "–"}</b>
          {f.report && f.report.before > 0.5 && (
            <span className="second"> + {duration(f.report.before)} there</span>
          )}
        </span>
        <span>
          budget <b>{duration(f.budget)}</b>
        </span>
      </span>
      <span className="final-verdict">
        <Verdict f={f} />
        {f.state === "running" && <span className="second">{percent(share, 0)}</span>}
      </span>
    </button>
  );
}

function Detail({ f: listed }: { f: FinalView }) {
  const whole = useFinal(listed.id, `${listed.state} ${listed.ended}`).data;
  // The list beside it tells the same, from the same reports.
  const { finals } = useLive();
  const now = listed.state === "running" ? finals[listed.id] : undefined;
  const f = {
    ...(whole ?? listed),
    progress: now?.progress ?? listed.progress,
    times: now?.times ?? listed.times,
  };
  const act = useAct();
  const go = useNavigate();
  const toBin = useDelete();
  const active = f.state === "waiting" || f.state === "running" || f.state === "paused";
  const turn = (to: Turn) => void act(() => ask("POST", `/api/finals/${f.id}/turn`, to));
  const remove = () =>
    active
      ? void act(() => ask("POST", `/api/finals/${f.id}/cancel`))
      : void toBin([{ kind: "final", key: String(f.id) }], `Final of ${f.shot_name} deleted, with its files`);
  return (
    <aside className="panel final-detail">
      <header>
        <div>
          <h2>
            {f.shot_name} · {f.camera}
          </h2>
          <span className="second">{state(f, f.progress ?? undefined, f.times ?? undefined)}</span>
        </div>
      </header>
      <div className="panel-scroll">
        {f.state === "delivered" && f.fault && (
          <p className="over">
            The top-up failed: {f.fault.what}; {f.fault.remedy}
          </p>
        )}
        {f.state === "running" && (f.progress?.samples ?? 0) > 0 && (
          <div className="final-spot">
            <Watched id={f.id} seconds={f.progress!.elapsed} />
          </div>
        )}
        {f.state === "delivered" && <FinalPicture f={f} />}
        <FinalReportView f={f} />
        {f.files.length > 0 && (
          <section>
            <h3>Files</h3>
            {f.files.map((x) => (
              <div key={x.name} className="file">
                <a href={`/api/finals/${f.id}/files/${encodeURIComponent(x.name)}`} download={x.name}>
                  <DownloadOutlined /> {x.name}
                </a>
                <span className="second">{size(x.bytes)}</span>
                {x.notes.map((n) => (
                  <small key={n} className="second">
                    {n}
                  </small>
                ))}
              </div>
            ))}
            <div className="file">
              <a href={`/api/finals/${f.id}/files/report.json`} download={`report-${f.id}.json`}>
                <DownloadOutlined /> report.json
              </a>
            </div>
            {f.can_repeat && (
              <div className="file">
                <a href={`/api/finals/${f.id}/files/plan.json`} download={`plan-${f.id}.json`}>
                  <DownloadOutlined /> plan.json
                </a>
                <span className="second">samples of every block</span>
              </div>
            )}
          </section>
        )}
        {active && (
          <div className="final-acts">
            <Button size="small" onClick={() => turn("first")}>
              First
            </Button>
            <Button size="small" onClick={() => turn("sooner")}>
              Sooner
            </Button>
            <Button size="small" onClick={() => turn("later")}>
              Later
            </Button>
          </div>
        )}
        <div className="final-acts">
          <Button onClick={() => void go(`/bench/${f.shot}`)}>Open on the bench</Button>
          {f.can_repeat && (
            <Tooltip title="Follows its plan: every block gets the samples it had, and the same picture comes of it, bit for bit">
              <Button onClick={() => void act(() => ask("POST", `/api/finals/${f.id}/again`))}>
                Render again
              </Button>
            </Tooltip>
          )}
          {f.state === "paused" || f.state === "failed" || f.state === "cancelled" ? (
            <Button onClick={() => void act(() => ask("POST", `/api/finals/${f.id}/resume`))}>
              {f.state === "failed" ? "Try again" : "Resume"}
            </Button>
          ) : (
            active && (
              <Button onClick={() => void act(() => ask("POST", `/api/finals/${f.id}/pause`))}>Pause</Button>
            )
          )}
          <Button danger onClick={remove}>
            {active ? "Cancel" : "Delete"}
          </Button>
        </div>
      </div>
    </aside>
  );
}

/** The way to the next page of a list. */
function More({ list }: { list: ReturnType<typeof useFinals> }) {
  return (
    <Button type="text" loading={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
      Show more
    </Button>
  );
}

export function FinalsPage() {
  const [open, over] = [useFinals(false), useFinals(true)];
  const [chosenId, choose] = useState<number | null>(null);
  const queue = open.data?.pages.flatMap((p) => p.list) ?? [];
  const ended = over.data?.pages.flatMap((p) => p.list) ?? [];
  const count = open.data?.pages[0]?.open ?? 0;
  const chosen = [...queue, ...ended].find((f) => f.id === chosenId) ?? queue[0] ?? ended[0];
  return (
    <main className="finals">
      <section className="finals-list">
        <header className="page-head">
          <div>
            <h1>Finals</h1>
            <span className="second">
              {count > 0 ? `${count} in the queue` : "nothing in the queue"} · whole frames at the shot's own
              tuning; tests go first
            </span>
          </div>
        </header>
        {open.data && over.data && queue.length + ended.length === 0 && (
          <p className="empty">
            No finals yet. Open a shot on the bench, read its time bill, and press <b>Start final</b>.
          </p>
        )}
        {queue.map((f, i) => (
          <Row
            key={f.id}
            f={f}
            number={String(i + 1)}
            chosen={chosen?.id === f.id}
            choose={() => choose(f.id)}
          />
        ))}
        {open.hasNextPage && <More list={open} />}
        {ended.length > 0 && <h3 className="finals-ended">Delivered and ended</h3>}
        {ended.map((f) => (
          <Row key={f.id} f={f} number="–" chosen={chosen?.id === f.id} choose={() => choose(f.id)} />
        ))}
        {over.hasNextPage && <More list={over} />}
      </section>
      {chosen && <Detail key={chosen.id} f={chosen} />}
    </main>
  );
}
