import { PlusOutlined } from "@ant-design/icons";
import { Button, Input, Modal } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { ask } from "../api/client";
import { useShots } from "../api/queries";
import type { Parcel, Showing, ShotView } from "../api/types";
import { count, spoken } from "../app/format";
import { useAct } from "../app/useAct";
import { useDelete } from "../app/useDelete";
import { ImportBar } from "../library/ImportBar";
import { ImportTable } from "../library/ImportTable";
import { useFileDrop } from "../library/useFileDrop";
import { useImport } from "../library/useImport";
import { NewShotForm } from "./NewShotForm";

const showing = (s: Showing) =>
  s.kind === "final" ? `/api/finals/${s.id}/files/thumb.png` : `/api/proofs/${s.id}/thumb.png`;

function ShotCard({ shot: s, report }: { shot: ShotView; report: () => void }) {
  const go = useNavigate();
  const act = useAct();
  const toBin = useDelete();
  const [naming, setNaming] = useState(false);
  const change = (body: Record<string, unknown>) => void act(() => ask("PATCH", `/api/shots/${s.id}`, body));
  return (
    <article className={`shot${s.archived ? " archived" : ""}`} data-testid="shot">
      <button
        className="shot-picture"
        onClick={() => void go(`/bench/${s.id}`)}
        aria-label={`Open ${s.name}`}
      >
        {s.thumbnail ? (
          <img src={showing(s.thumbnail)} alt="" />
        ) : (
          <img src={`/api/shots/${s.id}/glance?camera=${encodeURIComponent(s.camera)}`} alt="" />
        )}
      </button>
      <div className="shot-text">
        {naming ? (
          <Input
            autoFocus
            aria-label="Name of the shot"
            defaultValue={s.name}
            onPressEnter={(e) => {
              setNaming(false);
              change({ name: e.currentTarget.value });
            }}
            onBlur={() => setNaming(false)}
          />
        ) : (
          <h2>{s.name}</h2>
        )}
        <p>
          camera <b>{s.camera}</b>
        </p>
        <p className="second">
          {String(s.tuning["frame.width"])} × {String(s.tuning["frame.height"])} px · threshold{" "}
          {(Number(s.tuning["sampling.threshold"]) * 100).toFixed(1)} % · budget {spoken(s.budget)}
        </p>
        <p className="second">
          {count(s.import.triangles)} triangles · {s.import.cameras.length} cameras · revision {s.revision}
        </p>
        <div className="shot-acts">
          <Button onClick={() => void go(`/bench/${s.id}`)}>Open on the bench</Button>
          <Button type="text" onClick={report}>
            Import report
          </Button>
          <Button type="text" aria-label={`Rename ${s.name}`} onClick={() => setNaming(true)}>
            Rename
          </Button>
          <Button
            type="text"
            aria-label={`Duplicate ${s.name}`}
            onClick={() => void act(() => ask("POST", `/api/shots/${s.id}/duplicate`))}
          >
            Duplicate
          </Button>
          <Button type="text" href={`/api/shots/${s.id}/export`} aria-label={`Export ${s.name}`}>
            Export
          </Button>
          <Button
            type="text"
            aria-label={s.archived ? `Bring ${s.name} back` : `Archive ${s.name}`}
            onClick={() => change({ archived: !s.archived })}
          >
            {s.archived ? "Bring back" : "Archive"}
          </Button>
          <Button
            type="text"
            aria-label={`Delete ${s.name}`}
            onClick={() =>
              void toBin(
                [{ kind: "shot", key: String(s.id) }],
                `${s.name} deleted, with its proofs and finals`,
              )
            }
          >
            Delete
          </Button>
        </div>
      </div>
    </article>
  );
}

export function ShotsPage() {
  const shots = useShots();
  const [adding, setAdding] = useState(false);
  const [parcel, setParcel] = useState<Parcel | null>(null);
  const [report, setReport] = useState<ShotView | null>(null);
  const [archive, setArchive] = useState(false);
  const { importing, stop, take, takeShot } = useImport();
  const drop = useFileDrop((files) => {
    // An archive is a whole shot.
    if (files.length === 1 && files[0]!.path.toLowerCase().endsWith(".zip")) {
      void takeShot(files[0]!);
      return;
    }
    void take(files).then((p) => {
      if (!p) return;
      setParcel(p);
      setAdding(true);
    });
  });
  const archived = shots.data?.filter((s) => s.archived).length ?? 0;
  const shown = shots.data?.filter((s) => archive || !s.archived).toReversed();
  return (
    <main
      className={`page${drop.over ? " dropping" : ""}`}
      {...(adding ? {} : drop.handlers)}
      data-testid="shots"
    >
      <header className="page-head">
        <div>
          <h1>Shots</h1>
          <span className="second">
            a scene, a camera, a size, a budget and a tuning each · drop a scene here to begin one, or an
            exported shot
          </span>
        </div>
        <span className="grow" />
        {archived > 0 && (
          <Button type="text" onClick={() => setArchive(!archive)}>
            {archive ? "Hide archived" : `Show ${archived} archived`}
          </Button>
        )}
        <Button
          type="primary"
          className="main-action"
          icon={<PlusOutlined />}
          onClick={() => {
            setParcel(null);
            setAdding(true);
          }}
        >
          New shot
        </Button>
      </header>
      <ImportBar importing={importing} stop={stop} />
      <div className="shots">
        {shots.data?.length === 0 && (
          <p className="empty">
            No shots yet. Drop a scene here, or press <b>New shot</b>; start the program with --demo to try
            the Tarnfell scenes.
          </p>
        )}
        {shown?.map((s) => (
          <ShotCard key={s.id} shot={s} report={() => setReport(s)} />
        ))}
      </div>
      <Modal
        open={adding}
        title="New shot"
        footer={null}
        onCancel={() => setAdding(false)}
        width={640}
        destroyOnHidden
      >
        <NewShotForm close={() => setAdding(false)} parcel={parcel} />
      </Modal>
      <Modal
        open={report !== null}
        title={`What was read of ${report?.name}`}
        footer={null}
        onCancel={() => setReport(null)}
        width={640}
      >
        {report && <ImportTable report={report.import} />}
      </Modal>
    </main>
  );
}
