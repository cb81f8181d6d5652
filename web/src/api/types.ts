// Written by the program from its Rust types: `./run types`. Do not edit.

export type Code = "wrong_type" | "damaged" | "out_of_range" | "not_a_number" | "contradiction" | "not_found" | "too_large" | "unsupported" | "forbidden" | "busy" | "disk_full" | "io" | "internal";

export type Fault = { code: Code, 
/**
 * What is wrong, as a sentence without a full stop.
 */
what: string, 
/**
 * File, knob or field in which it is wrong.
 */
place: string, 
/**
 * What helps.
 */
remedy: string, };

export type Group = "frame" | "sampling" | "paths" | "lights" | "clean_up" | "view" | "delivery";

export type Kind = { "type": "whole", least: number, most: number, } | { "type": "real", least: number, most: number, } | { "type": "switch" } | { "type": "choice", names: Array<string>, };

export type Scale = "linear" | "logarithmic";

export type Trade = "time" | "grain" | "look";

export type Value = boolean | number | number | string;

export type Knob = { 
/**
 * Stable name in files, API and `--set`, e.g. `sampling.most`.
 */
id: string, group: Group, label: string, 
/**
 * Unit as printed after the value; empty when it has none. `share` is a fraction of 1, for people in percent.
 */
unit: string, kind: Kind, scale: Scale, default: Value, trades: Array<Trade>, 
/**
 * What it does and what it trades, for a person.
 */
help: string, };

export type Difference = { id: string, label: string, a: Value, b: Value, };

export type PartialKind = "overlay" | "preset";

export type Untaken = { id: string, 
/**
 * As it stood in the file.
 */
value: string, why: string, };

export type Region = { x: number, y: number, width: number, height: number, };

export type Metrics = { 
/**
 * Root mean square error of the linear values.
 */
rmse: number, 
/**
 * mean((x − r)² / (r² + 0.01)), linear.
 */
relative_mse: number, 
/**
 * Decibels on display values 0…1; none for equal pictures, whose PSNR is infinite.
 */
psnr: number | null, 
/**
 * Structural similarity on display values; none if a side is shorter than the window of 11 pixels.
 */
ssim: number | null, 
/**
 * Mean FLIP of the display values, 0 (alike) to 1.
 */
flip: number, };

export type Against = { 
/**
 * Root mean squares of linear values: grain of the picture, grain of the reference, and the look change between them.
 */
grain: number, reference_grain: number, look: number, 
/**
 * Share of the squared error beyond the reference's own grain that more samples would not remove.
 */
look_share: number, 
/**
 * Mean luminance as a ratio to the reference less 1, and its standard error.
 */
brighter: number, brighter_error: number, 
/**
 * Mean red, green and blue, each as a ratio to the reference less 1 and less `brighter`.
 */
tint: [number, number, number], 
/**
 * The change in words, e.g. "2.1 % darker, a little bluer".
 */
words: string, };

export type Unit = "mm" | "cm" | "inch";

export type Paper = { name: string, width: number, height: number, };

export type Measure = "displayed" | "delivered" | "relative";

export type Swatch = { 
/**
 * Grain as a share of the display range, or samples.
 */
value: number, colour: [number, number, number], 
/**
 * Share of the pixels that were rendered from this value up to the next.
 */
share: number, };

export type GrainLegend = { threshold: number, measure: Measure, swatches: Array<Swatch>, 
/**
 * Root mean square over what was rendered of the region, and the worst block.
 */
grain: number, worst_block: number, 
/**
 * Share of pixels in blocks at or below the threshold, and in blocks that got the most samples without reaching it.
 */
below: number, capped: number, };

export type Loss = { mean: number, 
/**
 * 99 % of the picture loses no more than this.
 */
most: number, worst: number, };

export type NoiseRow = { 
/**
 * A part, or a light group as "light …".
 */
name: string, 
/**
 * Share of the grain's square.
 */
share: number, 
/**
 * Share of the grain's square that would go if it were free of noise.
 */
gain: number, 
/**
 * Share of the light.
 */
light: number, 
/**
 * What the picture would lose without it.
 */
loss: Loss, };

export type NoiseLedger = { region: Region, 
/**
 * Root mean square displayed grain of the luminance.
 */
grain: number, 
/**
 * Displayed variance of one camera sample: mean over the pixels.
 */
per_sample: number, 
/**
 * What pays most first.
 */
parts: Array<NoiseRow>, lights: Array<NoiseRow>, };

export type Handling = "read" | "approximated" | "ignored";

export type Entry = { feature: string, handling: Handling, count: number, 
/**
 * What it means for the picture; empty when there is nothing to say.
 */
note: string, };

export type ImportReport = { 
/**
 * As they are seen: those of shared meshes once for each instance.
 */
triangles: number, 
/**
 * As they are kept in memory.
 */
triangles_kept: number, instances: number, 
/**
 * Bytes held by meshes.
 */
mesh_bytes: number, materials: number, textures: number, 
/**
 * Bytes held by decoded textures.
 */
texture_bytes: number, lights: number, cameras: Array<string>, 
/**
 * Corners of the box around everything, metres.
 */
bounds: [[number, number, number], [number, number, number]], entries: Array<Entry>, };

export type Phase = "waiting" | "loading" | "structure" | "lights" | "first_look" | "sampling" | "denoise" | "writing" | "done" | "stopped" | "failed";

export type Moment = { 
/**
 * Seconds of sampling.
 */
seconds: number, samples_per_pixel: number, 
/**
 * Root mean square displayed grain, share of the display range.
 */
grain: number, };

export type Progress = { phase: Phase, 
/**
 * 0…1 of the sampling.
 */
share: number, 
/**
 * Samples taken, both halves.
 */
samples: number, 
/**
 * Samples per pixel so far: mean over the pixels rendered.
 */
samples_per_pixel: number, 
/**
 * Seconds of sampling so far.
 */
elapsed: number, 
/**
 * Predicted seconds of sampling that remain; none before anything can be said.
 */
remaining: number | null, 
/**
 * Root mean square displayed grain, share of the display range; none before two samples a pixel.
 */
grain: number | null, worst_block: number | null, 
/**
 * Share of the pixels in settled and in capped blocks.
 */
settled: number, capped: number, 
/**
 * Grain that another minute of sampling is expected to leave; none before anything can be said.
 */
in_a_minute: number | null, 
/**
 * Grain after each round.
 */
history: Array<Moment>, };

export type RayKind = "camera" | "direct" | "diffuse" | "reflection" | "transmission" | "volume";

export type RayCount = { kind: RayKind, rays: number, 
/**
 * Rays for each sample of the camera: all of them, and those that start at the first hit.
 */
per_sample: number, first_per_sample: number, 
/**
 * Share of the sampling time, measured in 1 of 32 samples.
 */
share: number, };

export type DepthKind = "all" | "diffuse" | "reflection" | "transmission" | "volume";

export type DepthRow = { bounces: number, rays: number, 
/**
 * Share of the sampling time that goes into bringing the light of this bounce.
 */
time: number, 
/**
 * Share of the light that it brings.
 */
light: number, 
/**
 * What would be lost if the depth ended here: exact for the limit of all bounces without clamps and tail fill, in the mean
 * for one kind.
 */
loss: Loss, };

export type DepthTable = { kind: DepthKind, rows: Array<DepthRow>, };

export type SplitKind = "direct" | "diffuse" | "reflection" | "transmission";

export type SplitRow = { kind: SplitKind, split: number, 
/**
 * Share of the sampling time.
 */
time: number, };

export type LightCost = { name: string, rays: number, 
/**
 * Light rays of its own at the first hit, where shot edits can give it some: lamps and the environment.
 */
own: number | null, };

export type CausticKind = "reflected" | "refracted";

export type CausticRow = { kind: CausticKind, 
/**
 * Share of all light, and what its loss would change on the display.
 */
light: number, loss: Loss, 
/**
 * Objects that would lose most of their light, with its share; known where parts are kept.
 */
darkened: Array<Darkened>, };

export type Darkened = { name: string, lost: number, };

export type Ledgers = { depth: Array<DepthTable>, splits: Array<SplitRow>, 
/**
 * Share of the sampling time for the camera's way to the first hit, and for what scatters in media first.
 */
camera: number, volume: number, lights: Array<LightCost>, 
/**
 * What switching caustics off would lose.
 */
caustics: Array<CausticRow>, };

export type RenderReport = { 
/**
 * Wall-clock seconds of sampling.
 */
seconds: number, 
/**
 * Processor seconds of sampling, all threads.
 */
processor_seconds: number, 
/**
 * Processor seconds of judging the grain after rounds.
 */
judging_seconds: number, 
/**
 * Bytes of memory that a rendered pixel takes.
 */
bytes_per_pixel: number, threads: number, samples: number, samples_per_pixel: number, rays: Array<RayCount>, 
/**
 * Displayed grain as a share of the display range: root mean square and worst block.
 */
grain: number, worst_block: number, settled: number, capped: number, 
/**
 * Samples that were not finite and counted as black.
 */
broken: number, 
/**
 * Share of the light that clamps took away.
 */
clamped: number, complete: boolean, 
/**
 * Grain after each round.
 */
history: Array<Moment>, 
/**
 * What bounces and splits cost and bring.
 */
ledgers: Ledgers, 
/**
 * Who causes the grain; none where no parts were kept.
 */
noise: NoiseLedger | null, };

export type CauseKind = "start" | "camera" | "direct" | "diffuse" | "reflection" | "transmission" | "volume" | "clean_up" | "files";

export type Cause = { kind: CauseKind, seconds: number, };

export type Seen = "all" | "scattered" | "region";

export type FileSize = { 
/**
 * Ending of its name.
 */
kind: string, bytes: number, };

export type Forecast = { 
/**
 * Seconds of render time of the whole final, and the interval in which it should end.
 */
seconds: number, low: number, high: number, causes: Array<Cause>, samples_per_pixel: number, 
/**
 * Seconds of it that go into sampling, and the processor time of that, all threads together: the clock takes longer where other
 * programs take processors, this does not.
 */
sampling: number, processor: number, 
/**
 * Seconds of the whole final where other work goes on taking the processors as it did during the test.
 */
beside: number, 
/**
 * Root mean square grain that is expected, as the judging counts it, and share of the blocks expected to settle.
 */
grain: number, settled: number, 
/**
 * Share of the final's frame that was seen, and how much of it the test and each of the others tell.
 */
seen: number, shares: Array<number>, 
/**
 * Where its pixels lie.
 */
basis: Seen, 
/**
 * It was the final's own frame, all of it.
 */
measured: boolean, 
/**
 * And took all of its samples, but for one in a hundred: they are counted, not extrapolated from its grain.
 */
counted: boolean, 
/**
 * Bytes of memory that the film takes at most, with what puts it away and delivers it; scene and program come on top.
 */
memory: number, 
/**
 * Bytes of the files.
 */
files: Array<FileSize>, 
/**
 * Finals of this machine whose outcome corrects the forecast and its interval.
 */
history: number, factor: number, 
/**
 * Knobs that differ from the test in a way whose effect cannot be computed: a new test is needed to know it.
 */
needs_test: Array<string>, };

export type Brief = { seconds: number, low: number, high: number, 
/**
 * The correction by the machine's history that is in it.
 */
factor: number, };

export type FitRow = { key: string, title: string, why: string, changes: Record<string, number | boolean | string>, 
/**
 * It is part of the result.
 */
taken: boolean, 
/**
 * Seconds of the final and its grain with the row less those without it: of rows that are taken with those above it, so that
 * they add up; of others with all that are taken.
 */
seconds: number, grain: number, 
/**
 * What the picture loses, in steps of 255 in 99 % of the blocks.
 */
loss: number | null, 
/**
 * Seconds of samples that are there and that the final could not use with the row.
 */
lost: number, };

export type CurvePoint = { threshold: number, seconds: number, low: number, high: number, grain: number, };

export type WayOut = { title: string, 
/**
 * Seconds of the final; none where samples that are judged anew must tell.
 */
seconds: number | null, 
/**
 * Seconds of budget that it takes.
 */
budget: number, changes: Record<string, number | boolean | string>, };

export type Fit = { budget: number, rows: Array<FitRow>, 
/**
 * As it is now, and with the rows that are taken.
 */
now: Forecast, then: Forecast, threshold: number, 
/**
 * It ends within the budget.
 */
fits: boolean, 
/**
 * Where it does not, or only with a coarser threshold than now.
 */
ways_out: Array<WayOut>, 
/**
 * At the tuning with the rows taken, over thresholds.
 */
curve: Array<CurvePoint>, changes: Record<string, number | boolean | string>, };

export type Wanted = { 
/**
 * Seconds that there are; the shot's own budget without.
 */
seconds?: number, 
/**
 * Or the threshold that is wanted, whatever it takes.
 */
threshold?: number, 
/**
 * Or a proof that is clean enough: its threshold is that of its blocks, 95 % of them.
 */
proof?: number, 
/**
 * Rows that are not to be taken, by key.
 */
without?: string[], 
/**
 * Rows that are taken although they make more useless of what is there than they save.
 */
insist?: string[], 
/**
 * The frame may become smaller where its own threshold is out of reach.
 */
smaller?: boolean, 
/**
 * A denoiser may be used where there is none.
 */
denoise?: boolean, };

export type Decision = { 
/**
 * Seconds of sampling when it was made.
 */
seconds: number, samples_per_pixel: number, 
/**
 * Grain to which the render went on from there.
 */
threshold: number, };

export type Plan = Array<Array<number>>;

export type Basis = "measured" | "extrapolated";

export type Price = { knob: string, 
/**
 * The next coarser step.
 */
step: Value, 
/**
 * Seconds of the final that it would save.
 */
seconds: number, 
/**
 * Half of their 95 % interval, where they are the difference of what is saved and of what is spent for it.
 */
unsure: number | null, 
/**
 * Grain of the final now and after the step, as shares of the display range, where grain is what it loses.
 */
grain: [number, number] | null, 
/**
 * What the picture would lose, where that is its look.
 */
look: Loss | null, 
/**
 * How the figures came about.
 */
from: Basis, };

export type Effect = { 
/**
 * Processor time for each camera sample.
 */
time: number, 
/**
 * Square of the grain at equal samples.
 */
variance: number, 
/**
 * Time at equal grain: their product.
 */
equal: number, 
/**
 * Half of its 95 % interval.
 */
unsure: number, };

export type Advice = { 
/**
 * Tells rows apart.
 */
key: string, title: string, why: string, 
/**
 * Knobs to change.
 */
changes: Record<string, number | boolean | string>, 
/**
 * Lights to switch off.
 */
lights_off: Array<string>, effect: Effect, 
/**
 * What the picture loses.
 */
look: Loss | null, };

export type Event = { "type": "test", shot: number, proof: number, kind: ProofKind, 
/**
 * Samples that a pixel takes at most, none of a pilot, and the threshold: of this test, whatever the shot has by now.
 */
most: number | null, threshold: number, progress: Progress, fault: Fault | null, 
/**
 * Set when a phase reports nothing for long: what it is at.
 */
stalled: string | null, } | { "type": "pushed_out", proof: number, shot_name: string, by: number, by_shot_name: string, } | { "type": "proofs", shot: number, } | { "type": "shot", shot: number, } | { "type": "final", id: number, progress: Progress, times: FinalTimes, } | { "type": "finals" } | { "type": "shots" } | { "type": "partials" } | { "type": "bin" } | { "type": "settings" } | { "type": "refused", fault: Fault, };

export type ShotView = { id: number, name: string, scene: string, environment: string | null, camera: string, cameras: Array<string>, 
/**
 * Seconds of render time for the final.
 */
budget: number, revision: number, tuning: Record<string, number | boolean | string>, undo: number | null, redo: number | null, 
/**
 * The picture that stands for the shot.
 */
thumbnail: Showing | null, 
/**
 * The test that runs now.
 */
running: number | null, 
/**
 * Why the test that came with a change could not begin; the change stands.
 */
refused: Fault | null, import: ImportReport, archived: boolean, 
/**
 * Draft overlays that lie over its tests, the one put on last last.
 */
overlays: number[], 
/**
 * Knobs that they change.
 */
in_force: Array<InForce>, 
/**
 * The preset applied last.
 */
preset: number | null, 
/**
 * Size of the frame that is rendered: the delivered one times oversize.
 */
rendered: [number, number], 
/**
 * Grain at which tests stop: the threshold in force, with the effort worked in.
 */
threshold: number, 
/**
 * Lights that are edited, by name.
 */
lights: { [key in string]: LightState }, 
/**
 * Samples of the whole frame at the most.
 */
most_samples: number, };

export type RevisionView = { number: number, change: string, 
/**
 * Seconds since 1970.
 */
made: number, current: boolean, 
/**
 * Knobs that differ from the revision before.
 */
knobs: Array<string>, 
/**
 * Given by the artist; empty without one.
 */
name: string, };

export type ProofKind = "test" | "pilot" | "trial" | "reference" | "picture";

export type ProofState = "running" | "unsaved" | "done" | "stopped";

export type PhaseTime = { phase: Phase, seconds: number, };

export type Circumstances = { processor: string, cores: number, threads: number, 
/**
 * Share of the processors that other programs used meanwhile; none where the system does not tell.
 */
others: number | null, phases: Array<PhaseTime>, };

export type ProofView = { id: number, shot: number, number: number, name: string, note: string, kept: boolean, star: boolean, kind: ProofKind, state: ProofState, made: number, bytes: number, 
/**
 * None for a picture from elsewhere.
 */
camera: string | null, frame: [number, number], 
/**
 * None for the whole frame.
 */
region: Region | null, 
/**
 * Its values; those alone that differ from the knobs' defaults once it is written as JSON, since lists of proofs are long.
 */
tuning: Record<string, number | boolean | string>, 
/**
 * Draft overlays that lay over it.
 */
overlays: Array<string>, oversize: number, 
/**
 * Of the program that rendered it.
 */
version: string, report: RenderReport | null, circumstances: Circumstances | null, 
/**
 * What must be known before its figures are compared.
 */
marks: Array<string>, 
/**
 * How many knobs differ from the shot's tuning now.
 */
differs: number, };

export type InForce = { id: string, value: Value, whose: string, };

export type RegionView = { id: number, name: string, 
/**
 * x, y, width and height as shares of the frame.
 */
place: [number, number, number, number], };

export type NewRegion = { name: string, region: Region, };

export type PartialView = { id: number, kind: PartialKind, name: string, note: string, values: Record<string, number | boolean | string>, 
/**
 * Came with the program.
 */
shipped: boolean, };

export type NewPartial = { kind: PartialKind, name: string, note?: string, values?: Record<string, number | boolean | string>, shot: number, knobs?: string[], };

export type PartialChange = { name?: string, note?: string, values: Record<string, number | boolean | string>, };

export type Imported = { name: string, 
/**
 * How many of its values are understood.
 */
understood: number, untaken: Array<Untaken>, 
/**
 * None while somebody must decide whether the rest is to be taken.
 */
kept: PartialView | null, };

export type Preview = { changes: Array<Difference>, forecast: Brief | null, };

export type Rung = { preset: number, forecast: Brief | null, 
/**
 * It changes knobs whose effect only a test can tell.
 */
needs_test: boolean, };

export type SettingsView = { threads: number, cores: number, processor: string, 
/**
 * Tests of a shot that keep themselves for a while.
 */
spare: number, 
/**
 * Room that proofs may take and do take, GB.
 */
room_gb: number, used_gb: number, 
/**
 * A new seed for each test instead of the shot's own.
 */
new_seed: boolean, 
/**
 * Memory for what is kept ready, 10⁹ bytes, and what is in it with the films that are being rendered.
 */
memory_gb: number, memory: Array<MemoryUse>, 
/**
 * Days for which what was deleted can be taken out of the bin.
 */
bin_days: number, 
/**
 * Patterns of the file names of finals, and of those of a series.
 */
naming: string, naming_series: string, };

export type SettingsChange = { threads?: number, spare?: number, room_gb?: number, new_seed?: boolean, memory_gb?: number, bin_days?: number, };

export type Parcel = { scene: SceneView | null, environments: Array<EnvironmentView>, };

export type TableView = { 
/**
 * Value of the knob `view.table`.
 */
id: number, title: string, };

export type FinalState = "waiting" | "running" | "paused" | "delivered" | "cancelled" | "failed";

export type FinalTimes = { 
/**
 * Seconds so far, without those of samples that were taken over.
 */
spent: number, 
/**
 * Seconds after which it is expected to end, clean-up and files with it.
 */
ends_after: number | null, };

export type Policy = "cleanness" | "time";

export type Series = { 
/**
 * Frames that the whole move takes.
 */
frames: number, first: number, last: number, step: number, 
/**
 * Digits of the number in file names.
 */
padding: number, };

export type NewFinal = { policy?: Policy, 
/**
 * By name; the shot's own without.
 */
cameras?: string[], 
/**
 * The cameras are stations of a move.
 */
series?: Series, 
/**
 * Pattern of the file names, kept for the next order; that of the last one without.
 */
naming?: string, 
/**
 * The plan of a final of this shot, as it lies beside its files: gives its picture again.
 */
plan?: Plan, };

export type TopUp = { region: Region, 
/**
 * Grain to go on to.
 */
threshold?: number, 
/**
 * Or seconds to go on for.
 */
seconds?: number, };

export type Turn = "first" | "sooner" | "later";

export type Ordered = { finals: Array<FinalView>, 
/**
 * Frames that are whole already, by number.
 */
skipped: Array<number>, };

export type Check = { what: string, state: string, 
/**
 * Nothing to think about.
 */
fine: boolean, };

export type FitView = { fit: Fit, 
/**
 * The proofs and finals that it rests on, in words.
 */
by: string, 
/**
 * A denoiser is allowed, but the test's samples, from which its gain would be judged, are gone.
 */
denoiser_unknown: boolean, };

export type Rest = { name: string, 
/**
 * Of the frame.
 */
share: number, };

export type Showing = { "kind": "proof", "id": number } | { "kind": "final", "id": number };

export type Verdict = { cleanness: Cleanness, 
/**
 * Steps of 255 that the shot allows, and the noise of a block that this is in a frame of its size, as a share of the display range.
 */
aim: number, limit: number, 
/**
 * Root mean square noise of the delivered picture, and that of its worst block, as shares of the display range.
 */
noise: number, worst: number, 
/**
 * Share of the blocks that are above the limit, and where the worst of them lie.
 */
above: number, places: Array<Region>, 
/**
 * What would help, the cheapest first.
 */
ways: Array<Way>, };

export type Cleanness = "clean" | "nearly" | "noisy";

export type Way = { "way": "top_up", region: Region, threshold: number, seconds: number, 
/**
 * It takes so many times the budget that no press should begin it.
 */
far: boolean, } | { "way": "denoise", seconds: number, } | { "way": "fireflies", blocks: number, };

export type Version = { 
/**
 * Seconds that it took.
 */
total: number, verdict: Verdict | null, 
/**
 * Names of its files, which stay.
 */
files: Array<string>, };

export type Unused = { name: string, why: string, };

export type FinalView = { id: number, shot: number, shot_name: string, camera: string, frame: [number, number], threshold: number, state: FinalState, budget: number, policy: Policy, 
/**
 * Seconds by which it may be past its budget and still has kept it.
 */
slack: number, 
/**
 * Of a frame of a series.
 */
number: number | null, 
/**
 * The top-up that it waits for or is at.
 */
top_up: TopUp | null, 
/**
 * Its samples are kept.
 */
can_top_up: boolean, 
/**
 * Its plan is kept: it can be rendered again, bit for bit.
 */
can_repeat: boolean, 
/**
 * It follows the plan of another final.
 */
planned: boolean, 
/**
 * As it was when the final was ordered.
 */
forecast: Forecast | null, report: FinalReport | null, files: Array<FileView>, progress: Progress | null, times: FinalTimes | null, 
/**
 * It waits because a test is running.
 */
yielding: boolean, fault: Fault | null, made: number, ended: number | null, };

export type FinalReport = { start: number, sampling: number, 
/**
 * Of checkpoints.
 */
saving: number, denoise: number, writing: number, total: number, 
/**
 * Seconds of sampling that came with the samples of tests and other finals, and those samples.
 */
before: number, reused: number, 
/**
 * Share of the pixels for which there was no time: they show what the nearest pixels have that were rendered.
 */
gaps: number, 
/**
 * Decisions under *hold the time*.
 */
plan: Array<Decision>, 
/**
 * Grain as delivered: root mean square and worst block.
 */
grain: number, worst_block: number, 
/**
 * How clean the delivered picture is; none in reports of older versions.
 */
verdict: Verdict | null, 
/**
 * What was delivered before a top-up, the first one first.
 */
earlier: Array<Version>, 
/**
 * Seconds of all deliveries: what counts for the budget.
 */
spent: number, 
/**
 * It went to its threshold, so that its time tells how forecasts hold.
 */
to_threshold: boolean, render: RenderReport, };

export type FileView = { name: string, bytes: number, 
/**
 * What it loses, measured.
 */
notes: Array<string>, };

export type ForecastView = { forecast: Forecast, 
/**
 * The proofs and finals that it rests on, in words; and each of them with the share of the frame that it tells.
 */
by: string, rests: Array<Rest>, 
/**
 * What is not used, and why not.
 */
unused: Array<Unused>, 
/**
 * What has changed since so that only a new test can tell its effect, by label.
 */
changed: Array<string>, 
/**
 * What must be known before its times are trusted: another machine, other work beside it.
 */
marks: Array<string>, 
/**
 * Its grain was judged anew, after the clean-up and through the view of now; and whether that is under way.
 */
judged_anew: boolean, judging: boolean, budget: number, };

export type KnobRow = { id: string, label: string, 
/**
 * None where the tuning is unknown.
 */
values: Array<Value | null>, };

export type Column = { proof: number, seconds: number | null, 
/**
 * Time of A ÷ time of this; above 1, this is faster.
 */
time_ratio: number | null, grain: number | null, 
/**
 * Grain of A ÷ grain of this; above 1, this is cleaner.
 */
grain_ratio: number | null, samples_per_pixel: number | null, rays: number | null, 
/**
 * Against the reference, or against A.
 */
metrics: Metrics | null, 
/**
 * Its error split into grain and look change, where both have halves and other seeds.
 */
against: Against | null, 
/**
 * The part of the frame on which it was measured.
 */
shared: Region | null, notes: Array<string>, };

export type Comparison = { 
/**
 * Knobs that differ between any two.
 */
rows: Array<KnobRow>, 
/**
 * One for each proof, A first.
 */
columns: Array<Column>, 
/**
 * What they are measured against; A without one.
 */
reference: number | null, };

export type WhatIf = { 
/**
 * Seconds of sampling for this proof, as it was and at the threshold.
 */
took: number, seconds: number, 
/**
 * The shot's final at the threshold, and what foretells it, where it is not this proof.
 */
whole: Brief, by: string | null, samples_per_pixel: number, settled: number, 
/**
 * This proof had adaptive sampling.
 */
adaptive: boolean, };

export type Legends = { grain: GrainLegend, samples: Array<Swatch>, 
/**
 * What adaptive sampling would do at this threshold; none while the proof is rendered.
 */
ask: WhatIf | null, };

export type LedgerView = { proof: number, proof_number: number, 
/**
 * Of the part that was asked for; none where no parts were kept.
 */
noise: NoiseLedger | null, 
/**
 * Seconds of sampling by row of the noise ledger, where a row has a cost of its own.
 */
costs: { [key in string]: number }, ledgers: Ledgers, 
/**
 * Seconds of sampling.
 */
seconds: number, rays: Array<RayCount>, 
/**
 * Knobs by which the shot's tuning differs from the proof's.
 */
differs: Array<string>, };

export type PricesView = { 
/**
 * The proofs and finals that tell it, in words.
 */
by: string, 
/**
 * The shot differs from them in knobs whose effect cannot be computed.
 */
stale: Array<string>, prices: Array<Price>, };

export type AdviceState = "new" | "applied" | "tried" | "dismissed";

export type AdviceLine = { advice: Advice, state: AdviceState, 
/**
 * What came of it, where two proofs show it.
 */
came: Came | null, 
/**
 * It surely saves time, by what came, else by what is foretold.
 */
pays: boolean, test: TestCost, };

export type TestCost = { seconds: number, 
/**
 * The final could save more than that.
 */
pays: boolean, };

export type TrialsView = { renders: number, seconds: number, 
/**
 * Seconds that the final would be shorter by at best; none without a forecast.
 */
wins: number | null, pays: boolean, };

export type AdviceAtWork = { 
/**
 * The line that is tested; none for trials.
 */
key: string | null, 
/**
 * What renders now.
 */
what: string, done: number, of: number, 
/**
 * Seconds to the end, once one has ended.
 */
remaining: number | null, };

export type Came = { without: number, with: number, effect: Effect, };

export type AdviceView = { proof: number, proof_number: number, lines: Array<AdviceLine>, 
/**
 * Trials that would tell what splits and roulette bring; none where that is known.
 */
trials: TrialsView | null, 
/**
 * Tests that are being rendered for the shot's advice.
 */
at_work: AdviceAtWork | null, };

export type TakeAdvice = { key: string, state: AdviceState, };

export type LightState = { on: boolean, 
/**
 * Light rays of its own at the first hit.
 */
split: number, };

export type LightChange = { on?: boolean, split?: number, };

export type SceneView = { hash: string, name: string, report: ImportReport, };

export type EnvironmentView = { hash: string, name: string, 
/**
 * Stored with 8 bits a channel: its highlights are clipped, and reflections of them come out dull.
 */
eight_bit: boolean, };

export type NewShot = { name: string, scene: string, environment: string | null, camera: string | null, budget: number, };

export type ShotChange = { name?: string, camera?: string, budget?: number, 
/**
 * Hash of another environment; empty for none.
 */
environment?: string, archived?: boolean, tuning?: Record<string, number | boolean | string>, 
/**
 * By the light's name.
 */
lights?: Record<string, LightChange>, 
/**
 * Live mode: a test that begins with the change.
 */
test?: NewTest, 
/**
 * The revision that the change was made from: refused where the shot is at another one. Without it the change is laid on the
 * shot as it is.
 */
revision?: number, };

export type ProofChange = { name?: string, note?: string, kept?: boolean, star?: boolean, };

export type TakeBack = { groups?: Array<Group>, };

export type GoOn = { most?: number, threshold?: number, };

export type NewTest = { 
/**
 * Absent for the whole frame.
 */
region?: Region, 
/**
 * Begun by a change of a knob: one that is pushed out at once leaves no proof.
 */
live?: boolean, };

export type Layer = "picture" | "grain" | "samples" | "albedo" | "normal" | "part" | "part_grain" | "shadow" | "depth" | "detail" | "stray" | "flat" | "clamped" | "clipped";

export type PixelReadout = { 
/**
 * Linear radiance.
 */
value: [number, number, number], 
/**
 * Display values, steps of 255.
 */
display: [number, number, number], samples: number, 
/**
 * Grain of the block, share of the display range.
 */
grain: number, depth: number, 
/**
 * Side of the block, pixels.
 */
block: number, };

export type Strays = { pixels: number, 
/**
 * Share of the region's light that is taken away.
 */
energy: number, };

export type Area = { region: Region, 
/**
 * Mean, on the even scale.
 */
brightness: number, 
/**
 * Noise level on that scale, as its finest details tell it.
 */
level: number, 
/**
 * The same of the difference of the halves, where there are any: what is noise there beyond doubt.
 */
known: number | null, 
/**
 * Spread of the means of 1, 2 and 4 pixels a side. For independent noise each is half the one before.
 */
by_scale: [number, number, number], 
/**
 * The artist has struck it out.
 */
struck: boolean, };

export type Profile = { areas: Array<Area>, 
/**
 * Brightness and level, both on the even scale, from dark to bright; never empty.
 */
curve: Array<[number, number]>, };

export type Character = { 
/**
 * Samples for the same grain, against a filter without negative lobes.
 */
price: number, 
/**
 * Contrast that is left of stripes so many pixels wide, two, one and a half of one: the last one can only be false.
 */
contrast: [number, number, number], };

export type Softened = { name: string, 
/**
 * Detail lost where it is worst, share of the display range, and the block there.
 */
lost: number, region: Region, 
/**
 * Samples a pixel at which the denoiser would about keep it.
 */
keeps_from: number, };

export type ClampAdvice = { knob: string, 
/**
 * Radiance.
 */
limit: number, 
/**
 * Grain of the worst block without and with it, and where it lies.
 */
worst: [number, number], region: Region, 
/**
 * Share of all light that it takes away.
 */
lost: number, };

export type Clamped = { 
/**
 * Of the whole picture, and of the block where it is most.
 */
share: number, worst: number, region: Region, legend: GrainLegend, };

export type Softening = { 
/**
 * Roughness of surfaces behind a diffuse bounce at the least.
 */
roughness: number, 
/**
 * None where no test without has ended.
 */
against: SofteningAgainst | null, };

export type SofteningAgainst = { proof: number, proof_number: number, 
/**
 * Change of all light as a share of it, below 0 where some is lost, and its standard error.
 */
light: number, error: number, darkened: Array<Darkened>, };

export type CleanUpView = { 
/**
 * The denoiser that was used: regression needs two halves.
 */
used: string | null, seconds: number, 
/**
 * Grain as displayed before and after: root mean square and worst block.
 */
before: [number, number], after: [number, number], 
/**
 * Seconds that the quick denoiser takes, where the careful one surely errs more than that.
 */
quick_is_better: number | null, 
/**
 * Light taken away or added by all of it, share of the whole.
 */
energy: number, 
/**
 * Share of the blocks that lost more than noise, how much, and who lost it.
 */
detail_share: number, detail: GrainLegend, softened: Array<Softened>, strays: Strays, 
/**
 * What the clamps of the render took away; none where there were none.
 */
clamped: Clamped | null, 
/**
 * What softened caustics changed; none where they are sharp.
 */
softening: Softening | null, 
/**
 * Clamps that would tame the worst block; what takes least comes first.
 */
clamps: Array<ClampAdvice>, 
/**
 * Of the noisy picture, where it has no guides or is cleaned by its colour alone.
 */
profile: Profile | null, };

export type BinKind = "shot" | "proof" | "final" | "scene" | "environment" | "table" | "partial";

export type BinItem = { kind: BinKind, 
/**
 * Its id; of scenes and environments their hash.
 */
key: string, };

export type BinEntry = { name: string, bytes: number, 
/**
 * Seconds since 1970: when it was deleted, and when it will be forgotten.
 */
deleted: number, goes: number, kind: BinKind, 
/**
 * Its id; of scenes and environments their hash.
 */
key: string, };

export type MemoryUse = { what: string, count: number, bytes: number, };

export type ProofsView = { list: Array<ProofView>, all: number, };

export type FinalsView = { list: Array<FinalView>, 
/**
 * In the queue; of these, waiting or running; ended.
 */
open: number, due: number, ended: number, };
