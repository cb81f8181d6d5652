import {
  DeleteOutlined,
  EditOutlined,
  ImportOutlined,
  PushpinFilled,
  PushpinOutlined,
} from "@ant-design/icons";
import { App, Input, Popover, Tooltip } from "antd";
import { useState } from "react";
import { ask } from "../api/client";
import type { ProofView } from "../api/types";
import { clock, duration, percent } from "../app/format";
import { useAct } from "../app/useAct";

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
  proofs: ProofView[];
  shown: number | null;
  other: number | null;
  show: (id: number) => void;
  compare: (id: number | null) => void;
}

function Card({ proof, p }: { proof: ProofView; p: Props }) {
  const [labelling, setLabelling] = useState(false);
  const act = useAct();
  const { modal } = App.useApp();
  const r = proof.report;
  const shown = p.shown === proof.id;
  const other = p.other === proof.id;
  const remove = () =>
    void modal.confirm({
      title: `Delete proof ${proofTitle(proof)}?`,
      content: "Its picture and its measurements go with it.",
      okText: "Delete",
      okButtonProps: { danger: true },
      onOk: () => act(() => ask("DELETE", `/api/proofs/${proof.id}`)),
    });
  return (
    <article className={`proof${shown ? " shown" : ""}${other ? " other" : ""}`} data-proof={proof.id}>
      <button
        className="proof-picture"
        onClick={() => p.show(proof.id)}
        aria-label={`Show proof ${proofTitle(proof)}`}
      >
        {proof.state === "running" ? (
          <span className="proof-wait">rendering …</span>
        ) : (
          <img src={`/api/proofs/${proof.id}/thumb.png`} alt="" draggable={false} />
        )}
        {shown && <span className="letter b">{p.other ? "B" : "shown"}</span>}
        {other && <span className="letter a">A</span>}
        {proof.region === null && <span className="whole">whole frame</span>}
      </button>
      <div className="proof-line">
        <Tooltip title={proof.note || undefined}>
          <b>
            {proofTitle(proof)}
            {proof.note && <span className="noted"> ✎</span>}
          </b>
        </Tooltip>
      </div>
      <div className="proof-line second">
        {r ? (
          <>
            {duration(r.seconds)} · grain {percent(r.grain, r.grain < 0.1 ? 1 : 0)}
            {proof.differs > 0 && (
              <Tooltip title="Knobs that differ from the tuning now">{` · ≠${proof.differs}`}</Tooltip>
            )}
            {!r.complete && " · stopped"}
          </>
        ) : (
          clock(proof.made)
        )}
      </div>
      <div className="proof-acts">
        <Tooltip title={other ? "End comparing" : "Compare: lay this one beside as A"}>
          <button
            aria-label={`Compare with proof ${proof.number}`}
            onClick={() => p.compare(other ? null : proof.id)}
            disabled={proof.state === "running"}
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
        <Tooltip title="Take this proof's tuning into the shot">
          <button
            aria-label="Take tuning"
            onClick={() => void act(() => ask("POST", `/api/proofs/${proof.id}/take`))}
          >
            <ImportOutlined />
          </button>
        </Tooltip>
        <Tooltip title="Delete">
          <button aria-label={`Delete proof ${proof.number}`} onClick={remove}>
            <DeleteOutlined />
          </button>
        </Tooltip>
      </div>
    </article>
  );
}

export function ProofSheet(p: Props) {
  if (p.proofs.length === 0) {
    return (
      <div className="sheet empty">
        No proofs yet. Drag a region on the picture and press <b>Test region</b>, or test the whole frame:
        every test lands here with its time and its grain.
      </div>
    );
  }
  return (
    <div className="sheet" data-testid="sheet">
      {p.proofs.map((proof) => (
        <Card key={proof.id} proof={proof} p={p} />
      ))}
    </div>
  );
}
