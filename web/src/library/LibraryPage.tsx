import { DeleteOutlined, DownloadOutlined, EditOutlined, CopyOutlined } from "@ant-design/icons";
import { Button, Modal, Tooltip } from "antd";
import { useRef, useState } from "react";
import { ask } from "../api/client";
import {
  useEnvironments,
  useKnobs,
  usePartials,
  useScenes,
  useSettings,
  useShots,
  useTables,
} from "../api/queries";
import type { BinItem, Imported, Knob, PartialKind, PartialView, SceneView } from "../api/types";
import { count, size } from "../app/format";
import { useAct } from "../app/useAct";
import { useDelete } from "../app/useDelete";
import { NumberField } from "../bench/NumberField";
import { valueText, type Value } from "../bench/values";
import { Bin } from "./Bin";
import { ImportBar } from "./ImportBar";
import { ImportTable } from "./ImportTable";
import { PartialEditor, type Draft } from "./PartialEditor";
import { useFileDrop } from "./useFileDrop";
import { useImport } from "./useImport";

function Partials({ kind, title, text }: { kind: PartialKind; title: string; text: string }) {
  const partials = usePartials();
  const knobs = useKnobs().data ?? [];
  const act = useAct();
  const toBin = useDelete();
  const [editing, setEditing] = useState<Draft | null>(null);
  const [asked, setAsked] = useState<{ read: Imported; text: string; file: string } | null>(null);
  const file = useRef<HTMLInputElement>(null);
  const list = partials.data?.filter((p) => p.kind === kind) ?? [];
  const take = async (text: string, name: string, rest: boolean) => {
    const read = await act(() =>
      fetchText<Imported>(
        `/api/partials/import?kind=${kind}&name=${encodeURIComponent(name)}&take=${rest}`,
        text,
      ),
    );
    setAsked(read && !read.kept ? { read, text, file: name } : null);
  };
  const drop = useFileDrop((files) => {
    for (const f of files) void f.file.text().then((text) => take(text, f.file.name, false));
  });
  const copy = (p: PartialView) =>
    setEditing({
      kind,
      name: `${p.name} (copy)`,
      note: p.note,
      values: p.values as Record<string, Value>,
    });
  return (
    <section
      className={`library-part${drop.over ? " dropping" : ""}`}
      data-testid={`${kind}s-part`}
      {...drop.handlers}
    >
      <header>
        <div>
          <h2>{title}</h2>
          <p className="second">{text}</p>
        </div>
        <span className="grow" />
        <Button onClick={() => setEditing({ kind, name: "", note: "", values: {} })}>
          {kind === "overlay" ? "New draft overlay" : "New preset"}
        </Button>
        <Button onClick={() => file.current?.click()}>Import .json</Button>
        <input
          ref={file}
          type="file"
          accept=".json"
          hidden
          aria-label={`Import ${title}`}
          onChange={(e) => {
            const f = e.target.files?.[0];
            e.target.value = "";
            if (f) void f.text().then((text) => take(text, f.name, false));
          }}
        />
      </header>
      <ul>
        {list.map((p) => (
          <li key={p.id} data-partial={p.name}>
            <div>
              <b>{p.name}</b> {p.shipped && <span className="pill">shipped</span>}
              <p className="second">{p.note}</p>
              <p className="values">{describe(p, knobs)}</p>
            </div>
            <span className="acts">
              <Tooltip title="Edit">
                <button
                  aria-label={`Edit ${p.name}`}
                  onClick={() =>
                    setEditing({
                      id: p.id,
                      kind,
                      name: p.name,
                      note: p.note,
                      values: p.values as Record<string, Value>,
                    })
                  }
                >
                  <EditOutlined />
                </button>
              </Tooltip>
              <Tooltip title="Duplicate">
                <button aria-label={`Duplicate ${p.name}`} onClick={() => copy(p)}>
                  <CopyOutlined />
                </button>
              </Tooltip>
              <Tooltip title="Share as JSON">
                <a href={`/api/partials/${p.id}/file`} download aria-label={`Share ${p.name}`}>
                  <DownloadOutlined />
                </a>
              </Tooltip>
              <Tooltip title="Delete">
                <button
                  aria-label={`Delete ${p.name}`}
                  onClick={() => void toBin([{ kind: "partial", key: String(p.id) }], `${p.name} deleted`)}
                >
                  <DeleteOutlined />
                </button>
              </Tooltip>
            </span>
          </li>
        ))}
      </ul>
      {editing && <PartialEditor draft={editing} knobs={knobs} close={() => setEditing(null)} />}
      {asked && (
        <Modal
          open
          title={`${asked.file}: not everything is understood`}
          okText={`Take the other ${asked.read.understood}`}
          onOk={() => void take(asked.text, asked.file, true)}
          onCancel={() => setAsked(null)}
        >
          <ul className="checks" data-testid="untaken">
            {asked.read.untaken.map((u) => (
              <li key={u.id}>
                <b>{u.id}</b> {u.value}: {u.why}
              </li>
            ))}
          </ul>
        </Modal>
      )}
    </section>
  );
}

function describe(p: PartialView, knobs: Knob[]): string {
  return knobs
    .filter((k) => k.id in p.values)
    .map((k) => `${k.label} ${valueText(k, p.values[k.id])}`)
    .join(" · ");
}

async function fetchText<T>(path: string, text: string): Promise<T> {
  return ask<T>("POST", path, new Blob([text]));
}

function Remove({ name, item }: { name: string; item: BinItem }) {
  const toBin = useDelete();
  return (
    <Tooltip title="Delete">
      <button aria-label={`Delete ${name}`} onClick={() => void toBin([item], `${name} deleted`)}>
        <DeleteOutlined />
      </button>
    </Tooltip>
  );
}

const inShots = (n: number) => (n === 0 ? "in no shot" : n === 1 ? "in 1 shot" : `in ${n} shots`);

function Scenes() {
  const scenes = useScenes();
  const environments = useEnvironments();
  const tables = useTables();
  const shots = useShots();
  const { importing, stop, take } = useImport();
  const [report, setReport] = useState<SceneView | null>(null);
  const input = useRef<HTMLInputElement>(null);
  const drop = useFileDrop((files) => {
    void take(files).then((p) => p?.scene && setReport(p.scene));
  });
  const used = (hash: string) =>
    shots.data?.filter((s) => s.scene === hash || s.environment === hash).length ?? 0;
  return (
    <section
      className={`library-part${drop.over ? " dropping" : ""}`}
      {...drop.handlers}
      data-testid="scenes"
    >
      <header>
        <div>
          <h2>Scenes, environments, view tables</h2>
          <p className="second">
            Drop .glb, .gltf with its files, .obj with its .mtl, .hdr or .exr here, or a folder of them.
          </p>
        </div>
        <span className="grow" />
        <Button onClick={() => input.current?.click()}>Import files</Button>
        <input
          ref={input}
          type="file"
          multiple
          hidden
          aria-label="Import scenes and environments"
          onChange={(e) => {
            const files = [...(e.target.files ?? [])].map((file) => ({ file, path: file.name }));
            e.target.value = "";
            if (files.length > 0) void take(files).then((p) => p?.scene && setReport(p.scene));
          }}
        />
      </header>
      <ImportBar importing={importing} stop={stop} />
      <ul>
        {scenes.data?.map((s) => (
          <li key={s.hash}>
            <div>
              <b>{s.name}</b>
              <p className="second">
                {`${count(s.report.triangles)} triangles · ${s.report.cameras.length} cameras · ${inShots(used(s.hash))}`}
              </p>
            </div>
            <span className="acts">
              <button onClick={() => setReport(s)}>Import report</button>
              <Remove name={s.name} item={{ kind: "scene", key: s.hash }} />
            </span>
          </li>
        ))}
        {environments.data?.map((e) => (
          <li key={e.hash}>
            <div>
              <b>{e.name}</b> <span className="pill">environment</span>
              <p className={e.eight_bit ? "caution" : "second"}>
                {e.eight_bit
                  ? "stored with 8 bits a channel: its highlights are clipped, and reflections come out dull"
                  : inShots(used(e.hash))}
              </p>
            </div>
            <span className="acts">
              <Remove name={e.name} item={{ kind: "environment", key: e.hash }} />
            </span>
          </li>
        ))}
        {tables.data?.map((t) => (
          <li key={t.id}>
            <div>
              <b>{t.title}</b> <span className="pill">view table</span>
            </div>
            <span className="acts">
              <Remove name={t.title} item={{ kind: "table", key: String(t.id) }} />
            </span>
          </li>
        ))}
      </ul>
      {report && (
        <Modal
          open
          title={`What was read of ${report.name}`}
          footer={null}
          onCancel={() => setReport(null)}
          width={640}
        >
          <ImportTable report={report.report} />
        </Modal>
      )}
    </section>
  );
}

function Machine() {
  const settings = useSettings().data;
  const act = useAct();
  if (!settings) return null;
  const set = (change: Record<string, number>) => void act(() => ask("PATCH", "/api/settings", change));
  return (
    <section className="library-part" data-testid="settings">
      <header>
        <div>
          <h2>This machine</h2>
          <p className="second">{`${settings.processor}, ${settings.cores} cores`}</p>
        </div>
      </header>
      <div className="settings">
        <label>
          Threads that render
          <NumberField
            label="Threads"
            whole
            value={settings.threads}
            onCommit={(threads) => set({ threads })}
          />
          {settings.threads < settings.cores && (
            <span className="caution">{`fewer than the ${settings.cores} cores: tests take longer than they need`}</span>
          )}
        </label>
        <label>
          Tests that keep themselves, a shot
          <NumberField label="Tests kept" whole value={settings.spare} onCommit={(spare) => set({ spare })} />
        </label>
        <label>
          Room for proofs, GB
          <NumberField label="Room in GB" value={settings.room_gb} onCommit={(room_gb) => set({ room_gb })} />
          <span className="second">{`${settings.used_gb.toFixed(2)} GB are used; beyond the room the oldest tests that nobody kept go first`}</span>
        </label>
        <label>
          Memory for what is kept ready, GB
          <NumberField
            label="Memory in GB"
            value={Number(settings.memory_gb.toFixed(2))}
            onCommit={(memory_gb) => set({ memory_gb })}
          />
          <span className="second" data-testid="memory">
            {settings.memory.length === 0
              ? "nothing is held at the moment"
              : settings.memory.map((m) => `${m.what} ${size(m.bytes)}`).join(", ")}
          </span>
        </label>
        <label>
          Days that deleted things stay in the bin
          <NumberField
            label="Days in the bin"
            value={settings.bin_days}
            onCommit={(bin_days) => set({ bin_days })}
          />
        </label>
      </div>
    </section>
  );
}

export function LibraryPage() {
  return (
    <main className="page">
      <header className="page-head">
        <div>
          <h1>Library</h1>
          <span className="second">scenes, environments, draft overlays and presets, for all shots</span>
        </div>
      </header>
      <div className="library">
        <Scenes />
        <Partials
          kind="overlay"
          title="Draft overlays"
          text="Lie over the tuning for tests only; a final ignores them always."
        />
        <Partials
          kind="preset"
          title="Presets"
          text="Applied to a shot they become its own values; knobs that they do not name stay untouched."
        />
        <Machine />
        <Bin />
      </div>
    </main>
  );
}
