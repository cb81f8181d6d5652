import { PlusOutlined, UploadOutlined } from "@ant-design/icons";
import { Button, Form, Input, InputNumber, Modal, Select, Upload } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { ask } from "../api/client";
import { useEnvironments, useScenes, useShots } from "../api/queries";
import type { EnvironmentView, ImportReport, NewShot, SceneView, ShotView } from "../api/types";
import { count, size, spoken } from "../app/format";
import { useAct } from "../app/useAct";

const handled = { read: "read", approximated: "approximated", ignored: "ignored" } as const;

export function ImportTable({ report }: { report: ImportReport }) {
  const [lo, hi] = report.bounds;
  const extent = hi.map((h, i) => (h - lo[i]!).toFixed(2)).join(" × ");
  return (
    <div className="import">
      <p className="second">
        {count(report.triangles)} triangles, {report.materials} materials, {report.textures} textures (
        {size(report.texture_bytes)}), {report.lights} punctual lights, {report.cameras.length} cameras.
        Extent {extent} m.
      </p>
      <table>
        <tbody>
          {report.entries.map((e) => (
            <tr key={`${e.feature} ${e.handling} ${e.note}`}>
              <td className={`handling ${e.handling}`}>{handled[e.handling]}</td>
              <td>
                {e.feature}
                {e.count > 1 && <span className="second"> × {e.count}</span>}
              </td>
              <td className="second">{e.note}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function NewShotForm({ close }: { close: () => void }) {
  const scenes = useScenes();
  const environments = useEnvironments();
  const act = useAct();
  const go = useNavigate();
  const [form] = Form.useForm<{
    name: string;
    scene: string;
    environment?: string;
    camera: string;
    minutes: number;
  }>();
  const chosen = Form.useWatch("scene", form);
  const scene = scenes.data?.find((s) => s.hash === chosen);

  const take = async (file: File, kind: "scenes" | "environments") => {
    const path = `/api/${kind}?name=${encodeURIComponent(file.name)}`;
    const done = await act(() => ask<SceneView | EnvironmentView>("POST", path, file));
    if (!done) return;
    await (kind === "scenes" ? scenes : environments).refetch();
    if ("report" in done) {
      form.setFieldsValue({ scene: done.hash, camera: done.report.cameras[0] });
      if (!form.getFieldValue("name")) form.setFieldsValue({ name: done.name });
    } else form.setFieldsValue({ environment: done.hash });
  };
  const add = async (v: {
    name: string;
    scene: string;
    environment?: string;
    camera: string;
    minutes: number;
  }) => {
    const shot: NewShot = {
      name: v.name,
      scene: v.scene,
      environment: v.environment ?? null,
      camera: v.camera,
      budget: v.minutes * 60,
    };
    const made = await act(() => ask<ShotView>("POST", "/api/shots", shot));
    if (made) {
      close();
      await go(`/bench/${made.id}`);
    }
  };
  const upload = (kind: "scenes" | "environments", accept: string, text: string) => (
    <Upload
      accept={accept}
      showUploadList={false}
      beforeUpload={(file) => {
        void take(file, kind);
        return false;
      }}
    >
      <Button icon={<UploadOutlined />}>{text}</Button>
    </Upload>
  );
  return (
    <Form form={form} layout="vertical" onFinish={(v) => void add(v)} initialValues={{ minutes: 8 }}>
      <div className="pair">
        <Form.Item
          name="scene"
          label="Scene"
          rules={[{ required: true, message: "choose or import a scene" }]}
        >
          <Select
            options={scenes.data?.map((s) => ({ value: s.hash, label: s.name }))}
            onChange={(h) =>
              form.setFieldsValue({ camera: scenes.data?.find((s) => s.hash === h)?.report.cameras[0] })
            }
          />
        </Form.Item>
        <Form.Item label=" ">{upload("scenes", ".glb", "Import .glb")}</Form.Item>
      </div>
      {scene && <ImportTable report={scene.report} />}
      <div className="pair">
        <Form.Item name="environment" label="Environment">
          <Select
            allowClear
            placeholder="none: only the scene's own lights"
            options={environments.data?.map((e) => ({ value: e.hash, label: e.name }))}
          />
        </Form.Item>
        <Form.Item label=" ">{upload("environments", ".hdr,.exr", "Import .hdr or .exr")}</Form.Item>
      </div>
      <Form.Item name="camera" label="Camera" rules={[{ required: true, message: "choose the camera" }]}>
        <Select options={scene?.report.cameras.map((c) => ({ value: c, label: c }))} />
      </Form.Item>
      <div className="pair">
        <Form.Item name="name" label="Name of the shot" rules={[{ required: true, message: "name it" }]}>
          <Input />
        </Form.Item>
        <Form.Item name="minutes" label="Budget, minutes of render time">
          <InputNumber min={0.1} max={43200} />
        </Form.Item>
      </div>
      <Button type="primary" htmlType="submit" className="main-action">
        Add shot
      </Button>
    </Form>
  );
}

export function ShotsPage() {
  const shots = useShots();
  const go = useNavigate();
  const [adding, setAdding] = useState(false);
  const [report, setReport] = useState<ShotView | null>(null);
  return (
    <main className="page">
      <header className="page-head">
        <div>
          <h1>Shots</h1>
          <span className="second">a scene, a camera, a size, a budget and a tuning each</span>
        </div>
        <span className="grow" />
        <Button
          type="primary"
          className="main-action"
          icon={<PlusOutlined />}
          onClick={() => setAdding(true)}
        >
          New shot
        </Button>
      </header>
      <div className="shots">
        {shots.data?.length === 0 && (
          <p className="empty">
            No shots yet. Press <b>New shot</b> and give a scene as .glb; start the program with --demo to try
            the Tarnfell scenes.
          </p>
        )}
        {shots.data?.toReversed().map((s) => (
          <article key={s.id} className="shot" data-testid="shot">
            <button
              className="shot-picture"
              onClick={() => void go(`/bench/${s.id}`)}
              aria-label={`Open ${s.name}`}
            >
              {s.thumbnail ? (
                <img src={`/api/proofs/${s.thumbnail}/thumb.png`} alt="" />
              ) : (
                <span>not rendered yet</span>
              )}
            </button>
            <div className="shot-text">
              <h2>{s.name}</h2>
              <p>
                camera <b>{s.camera}</b>
              </p>
              <p className="second">
                {String(s.tuning["frame.width"])} × {String(s.tuning["frame.height"])} px · threshold{" "}
                {(Number(s.tuning["sampling.threshold"]) * 100).toFixed(1)} % · budget {spoken(s.budget)}
              </p>
              <p className="second">
                {count(s.import.triangles)} triangles · {s.import.cameras.length} cameras · revision{" "}
                {s.revision}
              </p>
              <div className="shot-acts">
                <Button onClick={() => void go(`/bench/${s.id}`)}>Open on the bench</Button>
                <Button type="text" onClick={() => setReport(s)}>
                  Import report
                </Button>
              </div>
            </div>
          </article>
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
        <NewShotForm close={() => setAdding(false)} />
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
