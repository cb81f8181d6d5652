import { UploadOutlined } from "@ant-design/icons";
import { Button, Form, Input, InputNumber, Select } from "antd";
import { useEffect, useRef } from "react";
import { useNavigate } from "react-router";
import { ask } from "../api/client";
import { useEnvironments, useScenes } from "../api/queries";
import type { NewShot, Parcel, ShotView } from "../api/types";
import { useAct } from "../app/useAct";
import { ImportBar } from "../library/ImportBar";
import { ImportTable } from "../library/ImportTable";
import { useFileDrop } from "../library/useFileDrop";
import { useImport } from "../library/useImport";

interface Fields {
  name: string;
  scene: string;
  environment?: string;
  camera: string;
  minutes: number;
}

/** A shot from a scene of the library or from files that are dropped here; `parcel` was dropped already. */
export function NewShotForm({ close, parcel }: { close: () => void; parcel: Parcel | null }) {
  const scenes = useScenes();
  const environments = useEnvironments();
  const act = useAct();
  const go = useNavigate();
  const [form] = Form.useForm<Fields>();
  const chosen = Form.useWatch("scene", form);
  const scene = scenes.data?.find((s) => s.hash === chosen);
  const chosenSky = Form.useWatch("environment", form);
  const sky = environments.data?.find((e) => e.hash === chosenSky);
  const { importing, stop, take } = useImport();
  const input = useRef<HTMLInputElement>(null);

  const fill = (p: Parcel | undefined | null) => {
    if (!p) return;
    if (p.scene) {
      form.setFieldsValue({ scene: p.scene.hash, camera: p.scene.report.cameras[0] });
      if (!form.getFieldValue("name")) form.setFieldsValue({ name: p.scene.name });
    }
    const sky = p.environments.at(-1);
    if (sky) form.setFieldsValue({ environment: sky.hash });
  };
  useEffect(() => {
    fill(parcel);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [parcel]);
  const drop = useFileDrop((files) => void take(files).then(fill));
  const add = async (v: Fields) => {
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
  return (
    <Form form={form} layout="vertical" onFinish={(v) => void add(v)} initialValues={{ minutes: 8 }}>
      <div
        className={`drop-place${drop.over ? " dropping" : ""}`}
        {...drop.handlers}
        data-testid="drop-place"
      >
        <span>
          Drop a scene with its files and an environment here: .glb, .gltf, .obj, .hdr, .exr, or a folder
        </span>
        <Button icon={<UploadOutlined />} onClick={() => input.current?.click()}>
          Import files
        </Button>
        <input
          ref={input}
          type="file"
          multiple
          hidden
          aria-label="Import files"
          onChange={(e) => {
            const files = [...(e.target.files ?? [])].map((file) => ({ file, path: file.name }));
            e.target.value = "";
            if (files.length > 0) void take(files).then(fill);
          }}
        />
        <ImportBar importing={importing} stop={stop} />
      </div>
      <Form.Item name="scene" label="Scene" rules={[{ required: true, message: "choose or import a scene" }]}>
        <Select
          options={scenes.data?.map((s) => ({ value: s.hash, label: s.name }))}
          onChange={(h) =>
            form.setFieldsValue({ camera: scenes.data?.find((s) => s.hash === h)?.report.cameras[0] })
          }
        />
      </Form.Item>
      {scene && <ImportTable report={scene.report} />}
      <Form.Item
        name="environment"
        label="Environment"
        extra={
          sky?.eight_bit &&
          "Stored with 8 bits a channel: its highlights are clipped, reflections come out dull."
        }
      >
        <Select
          allowClear
          placeholder="none: only the scene's own lights"
          options={environments.data?.map((e) => ({ value: e.hash, label: e.name }))}
        />
      </Form.Item>
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
