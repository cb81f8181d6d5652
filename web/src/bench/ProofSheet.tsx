import {
  DeleteOutlined,
  EditOutlined,
  ImportOutlined,
  PushpinFilled,
  PushpinOutlined,
  StarFilled,
  StarOutlined,
} from "@ant-design/icons";
import { Button, Dropdown, Input, Popover, Select, Tooltip } from "antd";
import { memo, useCallback, useMemo, useState, type ReactNode } from "react";
import { ask } from "../api/client";
import { useKnobs, useSettings } from "../api/queries";
import type { Group, Knob, ProofView } from "../api/types";
import { clock, duration, percent, size } from "../app/format";
import { useAct } from "../app/useAct";
import { useDelete } from "../app/useDelete";
import { groups } from "./groups";
import { phaseText } from "./TestBar";
import { valueIn } from "./values";

export const proofTitle = (p: ProofView) => (p.name ? `${p.number} · ${p.name}` : String(p.number));

function Label({ proof, close }: { proof: ProofView; close: () => void }) {
  const [name, setName] = useState(proof.name);
  const [note, setNote] = useState(proof.note);
  const act = useAct();
  const save = () => {
    close();
    if (name !== proof.name || note !== proof.note)
      void act(() => ask("PATCH", `/api/proofs/${proof.id}`, { name, note, kept: true }));
  };
  return (
    <div className="label-form" onKeyDown={(e) => e.stopPropagation()}>
      <Input
        autoFocus
        placeholder="Name"
        aria-label="Name of the proof"
        value={name}
        onChange={(e) => setName(e.target.value)}
        onPressEnter={save}
      />
      <Input.TextArea
        rows={3}
        placeholder="Note"
        aria-label="Note on the proof"
        value={note}
        onChange={(e) => setNote(e.target.value)}
        onBlur={save}
      />
    </div>
  );
}

interface Props {
  /** Shows older ones; null where all are there. */
  older: (() => void) | null;
  /** Stand at the left and at the right of the sheet's own tools. */
  head: ReactNode;
  tail: ReactNode;
  proofs: ProofView[];
  shown: number | null;
  /** Letters of the compared proofs. */
  letters: Record<number, string>;
  reference: number | null;
  show: (id: number) => void;
  compare: (id: number) => void;
  setReference: (id: number | null) => void;
}

/** Everything that is known of a proof, for its tooltip. */
function facts(p: ProofView, knobs: Knob[]): string[] {
  const known = knobs.find((k) => k.id === "sampling.seed");
  const seed = known && valueIn(p, known);
  const r = p.report;
  const c = p.circumstances;
  return [
    p.kind === "picture" ? "a picture from elsewhere" : `camera ${p.camera}, ${p.frame[0]} × ${p.frame[1]}`,
    ...(p.oversize !== 1 ? [`oversize ${p.oversize} ×`] : []),
    ...(p.overlays.length ? [`drafts: ${p.overlays.join(", ")}`] : []),
    ...(seed !== undefined ? [`seed ${seed}`] : []),
    ...(r ? [`${r.samples_per_pixel.toFixed(1)} samples a pixel, ${percent(r.settled, 0)} settled`] : []),
    ...(c
      ? [
          `${c.processor}, ${c.threads} of ${c.cores} threads`,
          ...(c.others !== null ? [`other programs took ${percent(c.others, 0)} of the processors`] : []),
          c.phases.map((x) => `${phaseText[x.phase]} ${duration(x.seconds)}`).join(", "),
        ]
      : []),
    ...(p.version ? [`program ${p.version}`] : []),
    size(p.bytes),
    ...p.marks,
    ...(p.note ? [`note: ${p.note}`] : []),
  ];
}

interface CardProps {
  proof: ProofView;
  shown: boolean;
  letter: string | undefined;
  isReference: boolean;
  picked: boolean;
  pick: (id: number, shift: boolean) => void;
  remove: (ids: number[]) => Promise<void>;
  show: (id: number) => void;
  compare: (id: number) => void;
  setReference: (id: number | null) => void;
}

const Card = memo(function Card(p: CardProps) {
  const { proof, shown, letter, isReference, picked } = p;
  const knobs = useKnobs().data ?? [];
  const [labelling, setLabelling] = useState(false);
  const act = useAct();
  const r = proof.report;
  const ended = proof.state !== "running";
  const take = (chosen?: Group[]) =>
    void act(() => ask("POST", `/api/proofs/${proof.id}/take`, chosen ? { groups: chosen } : {}));
  return (
    <article
      className={`proof${shown ? " shown" : ""}${letter && !shown ? " other" : ""}${picked ? " picked" : ""}`}
      data-proof={proof.id}
      data-kind={proof.kind}
    >
      <button
        className="proof-picture"
        onClick={(e) =>
          e.ctrlKey || e.metaKey || e.shiftKey ? p.pick(proof.id, e.shiftKey) : p.show(proof.id)
        }
        aria-label={`Show proof ${proofTitle(proof)}`}
      >
        {!ended ? (
          <span className="proof-wait">rendering …</span>
        ) : proof.state === "unsaved" ? (
          <span className="proof-wait">not on disk</span>
        ) : (
          <img src={`/api/proofs/${proof.id}/thumb.png?${r?.samples ?? 0}`} alt="" draggable={false} />
        )}
        {(shown || letter) && <span className={`letter${shown ? " b" : " a"}`}>{letter ?? "shown"}</span>}
        <span className="whole">
          {proof.kind === "reference"
            ? isReference
              ? "reference in use"
              : "reference"
            : proof.kind === "picture"
              ? "from elsewhere"
              : proof.region === null
                ? "whole frame"
                : ""}
        </span>
      </button>
      <div className="proof-line">
        <button
          className="proof-star"
          aria-label={proof.star ? `Take the star off proof ${proof.number}` : `Star proof ${proof.number}`}
          onClick={() => void act(() => ask("PATCH", `/api/proofs/${proof.id}`, { star: !proof.star }))}
        >
          {proof.star ? <StarFilled /> : <StarOutlined />}
        </button>
        <Tooltip
          title={
            <span className="facts">
              {facts(proof, knobs).map((f) => (
                <span key={f}>{f}</span>
              ))}
            </span>
          }
        >
          <b>
            {proofTitle(proof)}
            {proof.note && <span className="noted"> ✎</span>}
            {proof.marks.length > 0 && <span className="caution"> !</span>}
          </b>
        </Tooltip>
      </div>
      <div className="proof-line second">
        {r ? (
          <>
            {duration(r.seconds)} · grain {percent(r.grain, r.grain < 0.1 ? 1 : 0)}
            {proof.overlays.length > 0 && " · draft"}
            {proof.differs > 0 && (
              <Tooltip title="Knobs that differ from the tuning now">{` · ≠${proof.differs}`}</Tooltip>
            )}
            {!r.complete && " · stopped"}
          </>
        ) : proof.kind === "picture" ? (
          `${proof.frame[0]} × ${proof.frame[1]}`
        ) : (
          clock(proof.made)
        )}
      </div>
      <div className="proof-acts">
        <Tooltip title={letter ? "Take it out of the comparison" : "Compare: lay it beside the shown one"}>
          <button
            aria-label={`Compare with proof ${proof.number}`}
            onClick={() => p.compare(proof.id)}
            disabled={!ended}
          >
            A|B
          </button>
        </Tooltip>
        <Tooltip title={proof.kept ? "Kept. Let it be pushed out again" : "Pull: keep this proof"}>
          <button
            aria-label={proof.kept ? "Let go" : "Keep"}
            onClick={() => void act(() => ask("PATCH", `/api/proofs/${proof.id}`, { kept: !proof.kept }))}
          >
            {proof.kept ? <PushpinFilled /> : <PushpinOutlined />}
          </button>
        </Tooltip>
        <Popover
          content={<Label proof={proof} close={() => setLabelling(false)} />}
          trigger="click"
          open={labelling}
          onOpenChange={setLabelling}
          destroyOnHidden
        >
          <button aria-label="Name and note">
            <EditOutlined />
          </button>
        </Popover>
        <Dropdown
          trigger={["click"]}
          menu={{
            items: [
              { key: "all", label: "Take its whole tuning", disabled: proof.kind === "picture" },
              {
                key: "groups",
                label: "Take one group",
                disabled: proof.kind === "picture",
                children: groups.map(([g, label]) => ({ key: `group ${g}`, label })),
              },
              {
                key: "repeat",
                label: "Repeat it: the same picture again",
                disabled: proof.kind === "picture",
              },
              {
                key: "reference",
                label: isReference ? "Measure against it no more" : "Measure proofs against it",
                disabled: !ended,
              },
            ],
            onClick: ({ key }) => {
              if (key === "all") take();
              else if (key === "repeat")
                void act(() => ask<ProofView>("POST", `/api/proofs/${proof.id}/repeat`)).then(
                  (again) => again && p.show(again.id),
                );
              else if (key === "reference") p.setReference(isReference ? null : proof.id);
              else take([key.slice(6) as Group]);
            },
          }}
        >
          <button aria-label={`More on proof ${proof.number}`}>
            <ImportOutlined />
          </button>
        </Dropdown>
        <Tooltip title="Delete; it lies in the bin">
          <button aria-label={`Delete proof ${proof.number}`} onClick={() => void p.remove([proof.id])}>
            <DeleteOutlined />
          </button>
        </Tooltip>
      </div>
    </article>
  );
});

const orders: Record<string, [string, (a: ProofView, b: ProofView) => number]> = {
  newest: ["newest first", (a, b) => b.id - a.id],
  fastest: ["fastest first", (a, b) => (a.report?.seconds ?? Infinity) - (b.report?.seconds ?? Infinity)],
  cleanest: ["cleanest first", (a, b) => (a.report?.grain ?? Infinity) - (b.report?.grain ?? Infinity)],
  name: ["by name", (a, b) => a.name.localeCompare(b.name) || b.id - a.id],
};

const filters: Record<string, [string, (p: ProofView) => boolean]> = {
  all: ["all", () => true],
  kept: ["kept", (p) => p.kept],
  star: ["starred", (p) => p.star],
  whole: ["whole frames", (p) => p.region === null && p.kind === "test"],
  reference: ["references", (p) => p.kind === "reference"],
  picture: ["from elsewhere", (p) => p.kind === "picture"],
};

export function ProofSheet(p: Props) {
  const [order, setOrder] = useState("newest");
  const [filter, setFilter] = useState("all");
  const [picked, setPicked] = useState<number[]>([]);
  const settings = useSettings().data;
  const toBin = useDelete();
  const { proofs } = p;
  const shown = useMemo(
    () => proofs.filter(filters[filter]![1]).toSorted(orders[order]![1]),
    [proofs, filter, order],
  );
  const pick = useCallback(
    (id: number, shift: boolean) =>
      setPicked((list) => {
        if (shift && list.length > 0) {
          const ids = shown.map((s) => s.id);
          const [a, b] = [ids.indexOf(list.at(-1)!), ids.indexOf(id)].toSorted((x, y) => x - y) as [
            number,
            number,
          ];
          return [...new Set([...list, ...ids.slice(a, b + 1)])];
        }
        return list.includes(id) ? list.filter((x) => x !== id) : [...list, id];
      }),
    [shown],
  );
  const remove = useCallback(
    async (ids: number[]) => {
      setPicked([]);
      const items = ids.map((id) => ({ kind: "proof" as const, key: String(id) }));
      await toBin(items, ids.length === 1 ? "1 proof deleted" : `${ids.length} proofs deleted`);
    },
    [toBin],
  );
  if (p.proofs.length === 0) {
    return (
      <>
        <div className="tray-head">
          {p.head}
          <span className="grow" />
          {p.tail}
        </div>
        <div className="sheet empty">
          No proofs yet. Drag a region on the picture and press <b>Test region</b>, or test the whole frame:
          every test lands here with its time and its grain. Pictures from elsewhere can be dropped here.
        </div>
      </>
    );
  }
  return (
    <>
      <div className="tray-head">
        {p.head}
        <Select
          size="small"
          variant="borderless"
          value={filter}
          onChange={setFilter}
          aria-label="Which proofs"
          popupMatchSelectWidth={false}
          options={Object.entries(filters).map(([value, [label]]) => ({ value, label }))}
        />
        <Select
          size="small"
          variant="borderless"
          value={order}
          onChange={setOrder}
          aria-label="Order of the proofs"
          popupMatchSelectWidth={false}
          options={Object.entries(orders).map(([value, [label]]) => ({ value, label }))}
        />
        {picked.length > 0 && (
          <>
            <span>{picked.length} picked</span>
            <Button size="small" danger onClick={() => void remove(picked)}>
              Delete picked
            </Button>
            <Button size="small" type="text" onClick={() => setPicked([])}>
              none
            </Button>
          </>
        )}
        <span className="grow" />
        {settings && (
          <span
            className={settings.used_gb > 0.9 * settings.room_gb ? "caution" : "second"}
            data-testid="room"
          >
            {`${settings.used_gb.toFixed(2)} of ${settings.room_gb} GB`}
          </span>
        )}
        {p.proofs[0] && (
          <span className="second">
            <a href={`/api/shots/${p.proofs[0].shot}/proofs.csv`} title="All proofs as a table">
              CSV
            </a>{" "}
            <a href={`/api/shots/${p.proofs[0].shot}/sheet.png`} title="A contact sheet of all proofs">
              sheet
            </a>
          </span>
        )}
        {p.tail}
      </div>
      <div className="sheet" data-testid="sheet">
        {shown.length === 0 && <span className="second">No proof is {filters[filter]![0]}.</span>}
        {shown.map((proof) => (
          <Card
            key={proof.id}
            proof={proof}
            shown={p.shown === proof.id}
            letter={p.letters[proof.id]}
            isReference={p.reference === proof.id}
            picked={picked.includes(proof.id)}
            pick={pick}
            remove={remove}
            show={p.show}
            compare={p.compare}
            setReference={p.setReference}
          />
        ))}
        {p.older && (
          <Button type="text" className="sheet-older" onClick={p.older}>
            Show older ones
          </Button>
        )}
      </div>
    </>
  );
}
