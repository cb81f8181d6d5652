import { Button, Segmented, Slider, Tooltip } from "antd";
import { useEffect, useState } from "react";
import { useCleanUp, useLedger } from "../api/queries";
import type {
  CausticRow,
  CleanUpView,
  GrainLegend,
  Layer,
  ProofView,
  Region,
  Softened,
  Softening,
} from "../api/types";
import { duration, count, percent, steps } from "../app/format";
import { Bars } from "../bench/Legend";
import type { Clean, Look } from "../bench/look";
import type { Value } from "../bench/values";
import { picturePass, type Pass } from "../causes/names";
import { ProfileChart } from "./ProfileChart";

const methods = [
  ["none", "None", "The picture as it was rendered"],
  ["quick", "Quick guided", "A guided filter in a fraction of a second"],
  ["careful", "Careful", "Fits light to the guides, part by part; for finals"],
  ["colour", "Colour only", "Needs nothing but the picture; for pictures from elsewhere"],
] as const;

/** A slider that changes its knob when it is let go. */
function Share({
  label,
  value,
  set,
  disabled,
}: {
  label: string;
  value: number;
  set: (v: number) => void;
  disabled?: boolean;
}) {
  const [now, setNow] = useState(value);
  useEffect(() => setNow(value), [value]);
  return (
    <label className="clean-share">
      <span>{label}</span>
      <Slider
        min={0}
        max={100}
        value={Math.round(now * 100)}
        disabled={disabled}
        tooltip={{ open: false }}
        onChange={(v) => setNow(v / 100)}
        onChangeComplete={(v) => set(v / 100)}
        ariaLabelForHandle={label}
      />
      <span className="num">{percent(now, 0)}</span>
    </label>
  );
}

const clampName = (knob: string) => `a clamp of ${knob.split(".")[1]} light at`;

const whose = (s: Softened) => (s.name === "" ? "the picture" : `“${s.name}”`);

interface Props {
  proof: ProofView | undefined;
  look: Look;
  /** Another clean-up than the shot's is tried on it. */
  tried: boolean;
  attempt: (clean: Partial<Clean>) => void;
  forget: () => void;
  set: (changes: Record<string, Value>) => void;
  pass: Pass;
  show: (p: Pass) => void;
  /** The noisy original is shown in the clean one's place. */
  noisy: boolean;
  setNoisy: (on: boolean) => void;
  /** Noisy and clean stand side by side. */
  pair: boolean;
  setPair: (on: boolean) => void;
  /** The region on the stage, to point to a flat area with. */
  region: Region | null;
  hint: (h: { struck: string; pointed: string }) => void;
}

/** Caustics that bring less are not worth a line. */
const worthALine = 0.0005;

/** Roughness that is offered to soften caustics with. */
const softly = 0.25;

function Figures({
  view,
  proof,
  pass,
  show,
  set,
  caustics,
}: Props & { view: CleanUpView; proof: ProofView; caustics: CausticRow[] }) {
  const showing = (layer: Layer) => pass.layer === layer;
  const toggle = (layer: Layer) => show(showing(layer) ? picturePass : { layer, part: "" });
  const mapButton = (layer: Layer, label: string) => (
    <button className={showing(layer) ? "chosen" : ""} onClick={() => toggle(layer)}>
      {showing(layer) ? "back to the picture" : label}
    </button>
  );
  const halves = proof.kind !== "picture";
  return (
    <table className="ledger clean-figures" data-testid="clean-up">
      <tbody>
        {halves && (
          <tr>
            <th>Grain left</th>
            <td className="num">
              {percent(view.after[0], 2)} <span className="second">{`${steps(view.after[0])} steps`}</span>
            </td>
            <td className="second">
              {`before ${percent(view.before[0], 2)}; worst block ${percent(view.after[1], 1)} of ${percent(view.before[1], 1)}`}
            </td>
            <td />
          </tr>
        )}
        {halves && (
          <tr>
            <th>Detail lost</th>
            <td className="num">
              {view.detail_share === 0 ? "none seen" : `${percent(view.detail_share, 1)} of blocks`}
            </td>
            <td className={view.softened.length ? "caution" : "second"}>
              {view.softened.length
                ? view.softened
                    .map(
                      (s) =>
                        `${whose(s)} is softened by ${steps(s.lost)} steps; about ${count(s.keeps_from)} samples would keep it`,
                    )
                    .join(" · ")
                : "beyond what noise explains, at the 99.9 % point"}
            </td>
            <td>{mapButton("detail", "show where")}</td>
          </tr>
        )}
        {halves && (
          <tr>
            <th>Stray pixels</th>
            <td className="num">{count(view.strays.pixels)}</td>
            <td className="second">
              {view.strays.pixels === 0
                ? "bright in one half alone; raise the strength to see some"
                : `bright in one half alone; they hold ${percent(view.strays.energy, 2)} of the light`}
            </td>
            <td>{mapButton("stray", "show them")}</td>
          </tr>
        )}
        {view.clamps.slice(0, 2).map((c) => (
          <tr key={c.knob}>
            <th>Worst block</th>
            <td className="num">{percent(c.worst[0], 1)}</td>
            <td className="second">
              {`at ${c.region.x}, ${c.region.y}; ${clampName(c.knob)} ${c.limit} would bring it to ${percent(c.worst[1], 1)} and take ${percent(c.lost, 2)} of the light`}
            </td>
            <td>
              <button onClick={() => set({ [c.knob]: c.limit })}>clamp</button>
            </td>
          </tr>
        ))}
        {caustics
          .filter((c) => c.light >= worthALine)
          .map((c) => (
            <tr key={c.kind}>
              <th>{c.kind === "refracted" ? "Glass caustics" : "Mirror caustics"}</th>
              <td className="num">{percent(c.light, 2)}</td>
              <td className={c.darkened.length ? "caution" : "second"}>
                {`of the light; without them ${c.loss.mean.toFixed(2)} steps are lost on average, ${c.loss.worst.toFixed(0)} at worst`}
                {c.darkened.map((d) => ` · “${d.name}” loses ${percent(d.lost, 0)} of its light`).join("")}
              </td>
              <td>
                <button onClick={() => set({ [`paths.caustics_${c.kind}`]: false })}>switch off</button>
                {!view.softening && (
                  <button
                    title="Surfaces behind a diffuse bounce are at least so rough: caustics get wide and even. A test then tells what that took"
                    onClick={() => set({ "paths.soften": softly })}
                  >
                    soften
                  </button>
                )}
              </td>
            </tr>
          ))}
        {view.softening && (
          <SofteningRow softening={view.softening} sharpen={() => set({ "paths.soften": 0 })} />
        )}
        <tr>
          <th>Light</th>
          <td className="num">{signedPercent(view.energy)}</td>
          <td className="second">
            {`against the noisy picture · cleaned in ${view.seconds.toFixed(2)} s, nothing rendered`}
          </td>
          <td />
        </tr>
        {view.clamped && (
          <tr>
            <th>Clamped</th>
            <td className="num">{percent(view.clamped.share, 2)}</td>
            <td className={view.clamped.worst > view.clamped.legend.threshold ? "caution" : "second"}>
              {`of the light, when it was rendered; at ${view.clamped.region.x}, ${view.clamped.region.y} it is ${percent(view.clamped.worst, 0)} of what there would be`}
            </td>
            <td>{mapButton("clamped", "show where")}</td>
          </tr>
        )}
        {view.profile && (
          <tr>
            <th>Noise found</th>
            <td className="num">{`${view.profile.areas.length} flat areas`}</td>
            <td className="second">
              {view.profile.areas.some((a) => a.known !== null)
                ? "for comparison: how noisy this picture is, its halves know better"
                : "measured where the picture is flat; the chart shows it by brightness"}
            </td>
            <td>{mapButton("flat", "show where")}</td>
          </tr>
        )}
      </tbody>
    </table>
  );
}

/** What softened caustics changed against a test without. */
function SofteningRow({ softening, sharpen }: { softening: Softening; sharpen: () => void }) {
  const { roughness, against } = softening;
  return (
    <tr>
      <th>Softened caustics</th>
      <td className="num">{against ? signedPercent(against.light) : "not known"}</td>
      <td className={against?.darkened.length ? "caution" : "second"}>
        {against
          ? `± ${percent(against.error, 2)} of the light, at roughness ${roughness}, against proof ${against.proof_number} without`
          : `at roughness ${roughness}; a test of the same picture with sharp ones would tell what that took`}
        {against?.darkened.map((d) => ` · “${d.name}” loses ${percent(d.lost, 0)} of its light`).join("")}
      </td>
      <td>
        <button onClick={sharpen}>sharpen</button>
      </td>
    </tr>
  );
}

const signedPercent = (v: number) => `${v >= 0 ? "+" : "−"}${percent(Math.abs(v), 2)}`;

/** Colours of a map over blocks, how much of the picture has each, and where the step lies. */
function MapLegend({
  legend,
  text,
  from,
  what,
}: {
  legend: GrainLegend;
  text: (v: number) => string;
  from: string;
  what: string;
}) {
  return (
    <figure className="detail-legend">
      <Bars
        swatches={legend.swatches}
        text={text}
        mark={legend.swatches.findIndex((s) => s.value >= legend.threshold * 0.999)}
      />
      <div className="legend-ends">
        <span>{`${text(legend.swatches[0]!.value)} or none`}</span>
        <span>{`${from} ${text(legend.threshold)}`}</span>
        <span>{text(legend.threshold * 8)}</span>
      </div>
      <figcaption className="second">{what}</figcaption>
    </figure>
  );
}

/** Clean-up of the shown proof after the fact: settings, what they did, and what they took away. */
export function CleanUp(p: Props) {
  const { proof, look } = p;
  const ended = proof && proof.state !== "running" ? proof : undefined;
  const query = useCleanUp(ended?.id ?? null, ended?.report?.samples ?? 0, look);
  const view = query.data;
  const caustics = useLedger(
    proof?.kind === "picture" ? null : (ended?.id ?? null),
    ended?.report?.samples ?? 0,
    null,
  ).data?.ledgers.caustics;
  const off = look.denoise === "none";
  const use = () =>
    p.set({ "cleanup.denoise": look.denoise, "cleanup.blend": look.blend, "cleanup.stray": look.stray });
  return (
    <div className="causes clean-up">
      <div className="causes-head">
        <Segmented<string>
          size="small"
          value={look.denoise}
          onChange={(denoise) => p.attempt({ denoise })}
          options={methods.map(([value, label, help]) => ({
            value,
            label: (
              <Tooltip title={help} placement="bottom" mouseEnterDelay={0.4}>
                {label}
              </Tooltip>
            ),
          }))}
        />
        <Share label="Blend" value={look.blend} set={(blend) => p.attempt({ blend })} disabled={off} />
        <Share label="Stray pixels" value={look.stray} set={(stray) => p.attempt({ stray })} />
        {p.tried && (
          <>
            <Tooltip title="The shot's finals and tests are cleaned up like this from now on; its forecast follows">
              <Button size="small" onClick={use}>
                Use for the shot
              </Button>
            </Tooltip>
            <Tooltip title="Back to how this picture is shown without trying">
              <Button size="small" onClick={p.forget}>
                Back
              </Button>
            </Tooltip>
          </>
        )}
        <span className="grow" />
        {query.isFetching && <span className="second">cleaning …</span>}
        <Tooltip title="The noisy original and back (V)">
          <Button size="small" type={p.noisy ? "primary" : "default"} onClick={() => p.setNoisy(!p.noisy)}>
            Noisy
          </Button>
        </Tooltip>
        <Tooltip title="Noisy and clean with a wipe between them">
          <Button size="small" type={p.pair ? "primary" : "default"} onClick={() => p.setPair(!p.pair)}>
            Noisy | clean
          </Button>
        </Tooltip>
      </div>
      {!ended ? (
        <p className="empty">
          {proof
            ? "When the test has ended, this says what the clean-up does."
            : "Test the frame or a region, or drop a picture here: then it can be cleaned up without rendering."}
        </p>
      ) : view ? (
        <div className="clean-body">
          {view.used !== null && view.used !== look.denoise && (
            <p className="caution">
              Careful compares two halves, and this picture has one: colour only is used.
            </p>
          )}
          {view.quick_is_better !== null && (
            <p className="caution" data-testid="quick-is-better">
              {`Here the quick denoiser errs less than the careful one, as the two halves tell, and takes ${duration(view.quick_is_better)}. `}
              <Button size="small" onClick={() => p.attempt({ denoise: "quick" })}>
                Try quick
              </Button>
            </p>
          )}
          <Figures {...p} view={view} proof={ended} caustics={caustics ?? []} />
          {p.pass.layer === "detail" && (
            <MapLegend
              legend={view.detail}
              text={(v) => `${steps(v)} steps`}
              from="visible from about"
              what={`detail lost, in steps of 255; worst block ${steps(view.detail.worst_block)}`}
            />
          )}
          {p.pass.layer === "clamped" && view.clamped && (
            <MapLegend
              legend={view.clamped.legend}
              text={(v) => percent(v)}
              from="much from"
              what={`share of a block's light that clamps took; at most ${percent(view.clamped.worst, 0)}`}
            />
          )}
          {view.profile && (
            <ProfileChart
              profile={view.profile}
              struck={look.struck}
              pointed={look.pointed}
              region={p.region}
              hint={p.hint}
            />
          )}
        </div>
      ) : (
        <p className="empty">{query.error ? query.error.message : "cleaning …"}</p>
      )}
    </div>
  );
}
