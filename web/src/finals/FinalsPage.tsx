import { DownloadOutlined } from "@ant-design/icons";
import { App, Button } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { ask } from "../api/client";
import { useLive } from "../api/live";
import { useFinals } from "../api/queries";
import type { FinalView, Progress } from "../api/types";
import { phaseText } from "../bench/TestBar";
import { clock, count, duration, percent, size, spoken } from "../app/format";
import { useAct } from "../app/useAct";

function state(f: FinalView, p: Progress | undefined): string {
  switch (f.state) {
    case "waiting":
      return "waiting for its turn";
    case "running":
      if (f.yielding) return "makes way for a test, goes on by itself";
      return p
        ? `${phaseText[p.phase]} · ${percent(p.share, 0)} · ${percent(p.settled, 0)} settled · gone ${duration(p.elapsed)}${
            p.remaining !== null ? `, ends after about ${duration(p.elapsed + p.remaining)}` : ""
          }`
        : "starting";
    case "delivered":
      return `delivered ${f.ended ? clock(f.ended) : ""} · ${f.files.map((x) => x.name.split(".").at(-1)!.toUpperCase()).join(", ")} · ${size(
        f.files.reduce((s, x) => s + x.bytes, 0),
      )}`;
    case "cancelled":
      return "cancelled";
    case "failed":
      return f.fault ? `failed: ${f.fault.what}; ${f.fault.remedy}` : "failed";
  }
}

function Verdict({ f }: { f: FinalView }) {
  if (f.state !== "delivered" || !f.report) return null;
  const r = f.report;
  const late = r.total - f.budget;
  return (
    <>
      <div>
        {r.clean ? <b>Clean</b> : <b className="over">Not clean everywhere</b>} ·{" "}
        {percent(r.render.settled, 0)} settled at {percent(f.threshold)}
      </div>
      <div className={late > 0 ? "over" : "second"}>
        {late > 0 ? `${spoken(late)} over budget` : `${spoken(-late)} inside budget`}
      </div>
    </>
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
  const p = f.state === "running" ? (finals[f.id] ?? f.progress ?? undefined) : undefined;
  const share = f.state === "delivered" ? 1 : (p?.share ?? 0);
  const end = Math.max(f.budget, f.forecast?.high ?? 0, f.report?.total ?? 0) * 1.05;
  const gone = f.report?.total ?? (p ? p.elapsed : 0);
  return (
    <button
      className={`final${chosen ? " chosen" : ""}`}
      onClick={choose}
      data-testid="final"
      data-state={f.state}
    >
      <span className="final-number">{number}</span>
      <span className="final-thumb">
        {f.state === "delivered" && <img src={`/api/finals/${f.id}/files/thumb.png`} alt="" />}
      </span>
      <span className="final-main">
        <b>{f.shot_name}</b>
        <span className="second">
          {f.camera} · {f.frame[0]} × {f.frame[1]} px
        </span>
        <span className="final-bar" title="Render time gone; the mark is the budget">
          <i
            style={{
              width: `${Math.min(100, (gone / end) * 100)}%`,
              opacity: f.state === "cancelled" ? 0.3 : 1,
            }}
          />
          <em style={{ left: `${(f.budget / end) * 100}%` }} />
        </span>
        <span>{state(f, p)}</span>
      </span>
      <span className="final-times">
        <span>
          forecast{" "}
          <b>
            {f.forecast
              ? `${duration(f.forecast.seconds)} ± ${duration((f.forecast.high - f.forecast.low) / 2)}`
              : "none"}
          </b>
        </span>
        <span>
          actual <b>{f.report ? duration(f.report.total) : p ? `${duration(p.elapsed)} …` : "–"}</b>
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

function Detail({ f }: { f: FinalView }) {
  const act = useAct();
  const go = useNavigate();
  const { modal } = App.useApp();
  const active = f.state === "waiting" || f.state === "running";
  const r = f.report;
  const phases: [string, number][] = r
    ? [
        ["Start", r.start],
        ["Sampling", r.sampling],
        ["Clean-up", r.denoise],
        ["Files", r.writing],
      ]
    : [];
  const most = Math.max(...phases.map((p) => p[1]), 1e-9);
  const remove = () =>
    active
      ? void act(() => ask("DELETE", `/api/finals/${f.id}`))
      : void modal.confirm({
          title: "Remove this final and its files?",
          okText: "Remove",
          okButtonProps: { danger: true },
          onOk: () => act(() => ask("DELETE", `/api/finals/${f.id}`)),
        });
  return (
    <aside className="panel final-detail">
      <header>
        <div>
          <h2>
            {f.shot_name} · {f.camera}
          </h2>
          <span className="second">{state(f, f.progress ?? undefined)}</span>
        </div>
      </header>
      <div className="panel-scroll">
        {f.state === "delivered" && (
          <img
            className="final-picture"
            src={`/api/finals/${f.id}/files/thumb.png`}
            alt={`Final of ${f.shot_name}`}
          />
        )}
        {r && (
          <section>
            <h3>Where the time went</h3>
            {phases.map(([name, s]) => (
              <div key={name} className="phase">
                <span>{name}</span>
                <i style={{ width: `${(s / most) * 150}px` }} />
                <b>{duration(s)}</b>
              </div>
            ))}
            <div className="phase total">
              <span>All</span>
              <b>
                {f.forecast && (
                  <>
                    forecast {duration(f.forecast.seconds)} → {duration(r.total)} (
                    {r.total >= f.forecast.seconds ? "+" : "−"}
                    {percent(Math.abs(r.total / f.forecast.seconds - 1))})
                  </>
                )}
                {!f.forecast && duration(r.total)}
              </b>
            </div>
            <p className="second">
              {count(r.render.samples)} samples, {r.render.samples_per_pixel.toFixed(0)} a pixel, on{" "}
              {r.render.threads} threads. Grain before clean-up {percent(r.render.grain, 2)}, worst block{" "}
              {percent(r.render.worst_block)}; {percent(r.render.capped, 0)} of the picture reached the most
              samples first.
            </p>
          </section>
        )}
        {f.files.length > 0 && (
          <section>
            <h3>Files</h3>
            {f.files.map((x) => (
              <div key={x.name} className="file">
                <a href={`/api/finals/${f.id}/files/${encodeURIComponent(x.name)}`} download={x.name}>
                  <DownloadOutlined /> {x.name}
                </a>
                <span className="second">{size(x.bytes)}</span>
              </div>
            ))}
          </section>
        )}
        <div className="final-acts">
          <Button onClick={() => void go(`/bench/${f.shot}`)}>Open on the bench</Button>
          <Button danger onClick={remove}>
            {active ? "Cancel" : "Remove"}
          </Button>
        </div>
      </div>
    </aside>
  );
}

export function FinalsPage() {
  const finals = useFinals();
  const [chosenId, choose] = useState<number | null>(null);
  const all = finals.data ?? [];
  const queue = all.filter((f) => f.state === "waiting" || f.state === "running");
  const ended = all.filter((f) => !queue.includes(f)).toReversed();
  const chosen = all.find((f) => f.id === chosenId) ?? queue[0] ?? ended[0];
  return (
    <main className="finals">
      <section className="finals-list">
        <header className="page-head">
          <div>
            <h1>Finals</h1>
            <span className="second">
              {queue.length ? `${queue.length} in the queue` : "nothing in the queue"} · whole frames at the
              shot's own tuning; tests go first
            </span>
          </div>
        </header>
        {all.length === 0 && (
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
        {ended.length > 0 && <h3 className="finals-ended">Delivered and ended</h3>}
        {ended.map((f) => (
          <Row key={f.id} f={f} number="–" chosen={chosen?.id === f.id} choose={() => choose(f.id)} />
        ))}
      </section>
      {chosen && <Detail key={chosen.id} f={chosen} />}
    </main>
  );
}
