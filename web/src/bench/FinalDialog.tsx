import { Modal } from "antd";
import { usePartials } from "../api/queries";
import type { ForecastView, Region, ShotView } from "../api/types";
import { duration, spoken } from "../app/format";

interface Props {
  shot: ShotView;
  region: Region | null;
  forecast: ForecastView | null | undefined;
  start: () => void;
  close: () => void;
}

/** What is checked before a final starts. */
export function FinalDialog({ shot, region, forecast, start, close }: Props) {
  const partials = usePartials();
  const f = forecast?.forecast;
  const drafts = shot.overlays.map((id) => partials.data?.find((p) => p.id === id)?.name ?? String(id));
  const size = `${String(shot.tuning["frame.width"])} × ${String(shot.tuning["frame.height"])} px`;
  const oversize = Number(shot.tuning["frame.oversize"]);
  return (
    <Modal open title={`Start the final of ${shot.name}`} okText="Start final" onOk={start} onCancel={close}>
      <ul className="checks">
        <li>
          camera <b>{shot.camera}</b>
        </li>
        <li>
          whole frame, <b>{size}</b>
          {oversize !== 1 && ` rendered at ${shot.rendered[0]} × ${shot.rendered[1]}`}
          {region && " (the region is for tests and is ignored)"}
        </li>
        {drafts.length > 0 && (
          <li data-testid="drafts-ignored">{`drafts are for tests and are ignored: ${drafts.join(", ")}`}</li>
        )}
        <li>
          denoiser <b>{String(shot.tuning["cleanup.denoise"])}</b>, threshold{" "}
          <b>{(Number(shot.tuning["sampling.threshold"]) * 100).toFixed(2)} %</b>, at most{" "}
          <b>{String(shot.tuning["sampling.most"])}</b> samples
        </li>
        <li className={f && f.seconds > shot.budget ? "over" : ""}>
          {f
            ? `forecast ${duration(f.seconds)}, budget ${spoken(shot.budget)}`
            : `not forecast: test first to know. Budget ${spoken(shot.budget)}`}
        </li>
        <li>files: PNG 16 bit as displayed, OpenEXR 32 bit linear with noisy picture and guides</li>
      </ul>
    </Modal>
  );
}
