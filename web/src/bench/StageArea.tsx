import { Button, InputNumber, Segmented, Tooltip } from "antd";
import { useMemo, useState } from "react";
import { useLiveValue, useRunning } from "../api/live";
import { useLegends } from "../api/queries";
import type { ProofView, Region, ShotView } from "../api/types";
import { partName, type Pass } from "../causes/names";
import { Legend } from "./Legend";
import { looksQuery, pictureAddress, type Look, type Seen } from "./look";
import { proofTitle } from "./ProofSheet";
import { Stage, type CompareMode, type Side } from "./Stage";
import { valueText } from "./values";
import { usePicture } from "./usePicture";

export const modes: [CompareMode, string][] = [
  ["off", "Off"],
  ["wipe", "Wipe"],
  ["side", "Side by side"],
  ["flicker", "Flicker"],
  ["difference", "Difference"],
];

interface Props {
  shot: ShotView;
  frame: [number, number];
  /** The shot's own, for a test that the sheet does not know yet. */
  look: Look;
  referenceLook: Look;
  pass: Pass;
  mode: CompareMode;
  setMode: (m: CompareMode) => void;
  shown: ProofView | undefined;
  /** A test that has just begun is shown before the sheet knows it. */
  shownId: number | null;
  /** A test is about to begin: the picture of the one before is not asked for any more. */
  hold: boolean;
  /** A first, the shown one second; the shown one alone when nothing is compared. */
  compared: Seen[];
  reference: ProofView | undefined;
  /** A whole frame, to show around a region. */
  whole: ProofView | undefined;
  region: Region | null;
  setRegion: (r: Region | null) => void;
  locked: boolean;
  loupe: boolean;
  setLoupe: (on: boolean) => void;
}

const ended = (p: ProofView | undefined) => p?.report?.samples ?? 0;

const mapsOf: Partial<Record<Pass["layer"], string>> = {
  detail: " · detail lost",
  stray: " · stray pixels",
  flat: " · flat areas",
  clamped: " · light that clamps took",
};

function caption(
  shot: ShotView,
  shown: ProofView | undefined,
  rendering: boolean,
  pass: Pass,
  look: Look,
): string {
  if (!shown) return `camera ${shot.camera} · nothing rendered yet`;
  const where = shown.camera ? `camera ${shown.camera}` : "from elsewhere";
  const part = shown.region
    ? `region ${shown.region.width} × ${shown.region.height}`
    : `whole frame ${shown.frame[0]} × ${shown.frame[1]}`;
  const drafts = shown.overlays.length ? ` · drafts ${shown.overlays.join(", ")}` : "";
  const alone =
    pass.layer === "part"
      ? ` · ${partName(pass.part)} alone`
      : pass.layer === "part_grain"
        ? ` · grain of ${partName(pass.part)} alone`
        : (mapsOf[pass.layer] ?? "");
  const clean =
    rendering || pass.layer !== "picture"
      ? ""
      : look.denoise === "none"
        ? " · noisy"
        : ` · ${valueText(undefined, look.denoise)}`;
  return `${rendering ? "rendering" : "proof"} ${proofTitle(shown)} · ${where} · ${part}${drafts}${alone}${clean}`;
}

/** The stage with its pictures, which follow every report of a running test, and what stands over it. */
export function StageArea(p: Props) {
  const { shot, pass, mode, shown, shownId, compared, reference } = p;
  const { layer } = pass;
  const [gain, setGain] = useState(8);
  /** A threshold that is asked about, beside the one in force. */
  const [asked, ask] = useState<number | null>(null);
  // The shown one is the second of those that are compared.
  const own = (shownId === shown?.id && (compared[1] ?? compared[0])?.look) || p.look;
  const look = useMemo(() => (asked === null ? own : { ...own, threshold: asked }), [own, asked]);
  const running = useRunning(shot.id);
  // The last report after the end brings the finished picture.
  const version = useLiveValue((l) => (l.test?.proof === shownId ? l.test.version : 0));
  const comparing = compared.length > 1;
  const others = comparing ? compared.filter((_, i) => i !== 1) : [];
  const beside = others.map((s) => s.proof);
  const picture = usePicture(pictureAddress(shownId, look, pass), version + ended(shown), p.hold);
  const pictures = [
    usePicture(pictureAddress(beside[0]?.id, others[0]?.look ?? look, pass), ended(beside[0])),
    usePicture(pictureAddress(beside[1]?.id, others[1]?.look ?? look, pass), ended(beside[1])),
    usePicture(pictureAddress(beside[2]?.id, others[2]?.look ?? look, pass), ended(beside[2])),
  ];
  const a = beside[0];
  const map =
    mode === "difference" && a && shown && a.id !== shown.id
      ? `/api/difference?a=${a.id}&b=${shown.id}&gain=${gain}&looks=${looksQuery(compared)}`
      : mode === "look" && reference && shown
        ? `/api/look-change?a=${reference.id}&b=${shown.id}&gain=${gain}&looks=${looksQuery([
            { proof: reference, look: p.referenceLook },
            { proof: shown, look: own },
          ])}`
        : null;
  const mapPicture = usePicture(map, ended(shown));
  const backdrop = usePicture(pictureAddress(shown?.region ? p.whole?.id : null, p.look), 0);
  const wantLegend = ["grain", "samples", "part_grain"].includes(layer) && mode === "off";
  // The legend stands beside what it explains.
  const part = shown?.region;
  const away = wantLegend && part && shown && 2 * part.x + part.width > shown.frame[0];
  const legends = useLegends(
    shown?.kind === "picture" ? null : (shown?.id ?? null),
    look.threshold,
    pass.part,
    Math.floor(version / 4),
    wantLegend,
  );
  const sides: Side[] = comparing
    ? compared.map((s, i) => ({
        letter: s.letter,
        picture: i === 1 ? picture : (pictures[i === 0 ? 0 : i - 1] ?? null),
      }))
    : [{ letter: "", picture }];
  return (
    <div className={away ? "stage-frame legend-left" : "stage-frame"}>
      <Stage
        frame={p.frame}
        sides={sides}
        map={mapPicture}
        backdrop={backdrop}
        mode={mode}
        region={p.region}
        setRegion={p.setRegion}
        locked={p.locked}
        loupe={p.loupe}
        proof={shown?.id ?? null}
        look={look}
        caption={caption(shot, shown, running === shown?.id, pass, own)}
      />
      {(comparing || reference) && (
        <div className="stage-modes">
          <Segmented<CompareMode>
            size="small"
            value={mode}
            onChange={p.setMode}
            options={[
              ...modes
                .filter(([m]) => (comparing || m === "off") && (m !== "difference" || a?.id !== shown?.id))
                .map(([value, label]) => ({ value, label })),
              ...(reference ? [{ value: "look" as const, label: "Look change" }] : []),
            ]}
          />
          {(mode === "difference" || mode === "look") && (
            <label>
              amplified{" "}
              <InputNumber
                size="small"
                min={1}
                max={200}
                value={gain}
                aria-label="Amplification"
                onChange={(v) => setGain(v ?? 8)}
              />
              <span className="two-hues">
                <i className="less" /> darker <i className="more" /> brighter
              </span>
            </label>
          )}
          <Tooltip title="The same spot of all, pixel by pixel (O)">
            <Button size="small" type={p.loupe ? "primary" : "default"} onClick={() => p.setLoupe(!p.loupe)}>
              Loupe
            </Button>
          </Tooltip>
        </div>
      )}
      {wantLegend && legends.data && (
        <Legend
          legends={legends.data}
          layer={layer === "samples" ? "samples" : "grain"}
          part={Boolean(part)}
          inForce={p.look.threshold}
          asked={asked}
          ask={ask}
        />
      )}
    </div>
  );
}
