// Written by the program from its Rust types: `./run types`. Do not edit.

export type Code = "wrong_type" | "damaged" | "out_of_range" | "not_a_number" | "contradiction" | "not_found" | "too_large" | "unsupported" | "forbidden" | "busy" | "io" | "internal";

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
ssim: number | null, };

export type Swatch = { 
/**
 * Grain as a share of the display range, or samples.
 */
value: number, colour: [number, number, number], 
/**
 * Share of the pixels from this value up to the next.
 */
share: number, };

export type GrainLegend = { threshold: number, swatches: Array<Swatch>, 
/**
 * Root mean square over the region, and the worst block.
 */
grain: number, worst_block: number, 
/**
 * Share of pixels in blocks at or below the threshold, and in blocks that got the most samples without reaching it.
 */
below: number, capped: number, };

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
settled: number, capped: number, };

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

export type RenderReport = { 
/**
 * Wall-clock seconds of sampling.
 */
seconds: number, 
/**
 * Processor seconds of sampling, all threads.
 */
processor_seconds: number, threads: number, samples: number, samples_per_pixel: number, rays: Array<RayCount>, 
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
clamped: number, complete: boolean, };

export type CauseKind = "start" | "camera" | "direct" | "diffuse" | "reflection" | "transmission" | "volume" | "clean_up" | "files";

export type Cause = { kind: CauseKind, seconds: number, };

export type Forecast = { 
/**
 * Seconds of render time of the whole final, and the interval in which it should end.
 */
seconds: number, low: number, high: number, causes: Array<Cause>, samples_per_pixel: number, 
/**
 * Share of the blocks expected to settle.
 */
settled: number, 
/**
 * Share of the final's frame that the test has seen.
 */
seen: number, 
/**
 * The test had the final's own frame, all of it.
 */
measured: boolean, 
/**
 * Knobs that differ from the test in a way whose effect cannot be computed: a new test is needed to know it.
 */
needs_test: Array<string>, };

export type Event = { "type": "test", shot: number, proof: number, progress: Progress, fault: Fault | null, } | { "type": "proofs", shot: number, } | { "type": "shot", shot: number, } | { "type": "final", id: number, progress: Progress, } | { "type": "finals" } | { "type": "shots" };

export type ShotView = { id: number, name: string, scene: string, environment: string | null, camera: string, cameras: Array<string>, 
/**
 * Seconds of render time for the final.
 */
budget: number, revision: number, tuning: Record<string, number | boolean | string>, undo: number | null, redo: number | null, 
/**
 * The proof whose picture stands for the shot.
 */
thumbnail: number | null, 
/**
 * The test that runs now.
 */
running: number | null, import: ImportReport, };

export type RevisionView = { number: number, change: string, 
/**
 * Seconds since 1970.
 */
made: number, current: boolean, };

export type ProofState = "running" | "done" | "stopped";

export type ProofView = { id: number, shot: number, number: number, name: string, note: string, kept: boolean, state: ProofState, made: number, camera: string, frame: [number, number], 
/**
 * None for the whole frame.
 */
region: Region | null, tuning: Record<string, number | boolean | string>, report: RenderReport | null, 
/**
 * How many knobs differ from the shot's tuning now.
 */
differs: number, };

export type FinalState = "waiting" | "running" | "delivered" | "cancelled" | "failed";

export type FinalView = { id: number, shot: number, shot_name: string, camera: string, frame: [number, number], threshold: number, state: FinalState, budget: number, 
/**
 * Seconds, with low and high, as forecast at the start.
 */
forecast: ForecastBrief | null, report: FinalReport | null, files: Array<FileView>, progress: Progress | null, 
/**
 * It waits because a test is running.
 */
yielding: boolean, fault: Fault | null, made: number, ended: number | null, };

export type ForecastBrief = { seconds: number, low: number, high: number, };

export type FinalReport = { start: number, sampling: number, denoise: number, writing: number, total: number, render: RenderReport, 
/**
 * Every block is at or below the threshold.
 */
clean: boolean, };

export type FileView = { name: string, bytes: number, };

export type ForecastView = { forecast: Forecast, 
/**
 * The proof it was computed from.
 */
proof: number, proof_number: number, budget: number, };

export type Comparison = { differences: Array<Difference>, 
/**
 * Time of a ÷ time of b; above 1, b is faster.
 */
time_ratio: number | null, 
/**
 * Grain of a ÷ grain of b; above 1, b is cleaner.
 */
grain_ratio: number | null, 
/**
 * On the part of the frame that both hold; none if they share none or their frames differ.
 */
metrics: Metrics | null, 
/**
 * The part of the frame that both hold.
 */
shared: Region | null, };

export type Legends = { grain: GrainLegend, samples: Array<Swatch>, };

export type SceneView = { hash: string, name: string, report: ImportReport, };

export type EnvironmentView = { hash: string, name: string, };

export type NewShot = { name: string, scene: string, environment: string | null, camera: string | null, budget: number, };

export type ShotChange = { name?: string, camera?: string, budget?: number, tuning?: Record<string, number | boolean | string>, };

export type ProofChange = { name?: string, note?: string, kept?: boolean, };

export type NewTest = { 
/**
 * Absent for the whole frame.
 */
region?: Region, };

export type Layer = "picture" | "grain" | "samples" | "albedo" | "normal";

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
