//! The routes of the bench: shots, tests, proofs, comparisons, finals. Work that may take time runs off the async threads.

use crate::serving::{download, file, work};
use crate::{App, Failure};
use axum::body::Bytes;
use axum::extract::rejection::BytesRejection;
use axum::extract::{FromRequestParts, Request, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, patch, post};
use axum::{Json, Router};
use fault::{Code, Fault};
use picture::denoise::Method;
use picture::denoise::profile::Hints;
use picture::files::{PngForm, png};
use picture::filter::{CHART, Character, Filter, chart};
use picture::{Region, Transform, View};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use tuning::{Named, PixelFilter};
use workshop::{CleanUpView, Layer, Look, Workshop};

/// Path parameters whose errors have the API's shape.
#[derive(FromRequestParts)]
#[from_request(via(axum::extract::Path), rejection(Failure))]
pub(crate) struct Path<T>(pub T);

/// Query parameters whose errors have the API's shape.
#[derive(FromRequestParts)]
#[from_request(via(axum::extract::Query), rejection(Failure))]
pub(crate) struct Query<T>(pub T);

pub(crate) type Answer<T> = Result<Json<T>, Failure>;

pub fn api() -> Router<App> {
    Router::new()
        .route("/api/knobs", get(|| async { Json(tuning::KNOBS) }))
        .route("/api/filters/{name}", get(filter_character))
        .route("/api/filters/{name}/chart.png", get(filter_chart))
        .route("/api/shots", get(shots).post(add_shot))
        .route("/api/shots/{id}", get(shot).patch(change_shot))
        .route("/api/shots/{id}/revisions", get(revisions))
        .route("/api/shots/{id}/revisions/{number}", post(go_to_revision).patch(name_revision))
        .route("/api/shots/{id}/duplicate", post(duplicate_shot))
        .route("/api/shots/{id}/glance", get(glance))
        .route("/api/shots/{id}/regions", get(regions).post(add_region))
        .route("/api/shots/{id}/regions/{region}", axum::routing::delete(delete_region))
        .route("/api/shots/{id}/reference", post(make_reference))
        .route("/api/shots/{id}/reference/forecast", post(reference_forecast))
        .route("/api/shots/{id}/proofs", get(proofs))
        .route("/api/shots/{id}/tests", post(start_test))
        .route("/api/shots/{id}/forecast", get(forecast))
        .route("/api/shots/{id}/prices", get(prices))
        .route("/api/shots/{id}/export", get(export_shot))
        .route("/api/shots/{id}/proofs.csv", get(proofs_csv))
        .route("/api/shots/{id}/sheet.png", get(contact_sheet))
        .route("/api/shots/{id}/pilot", post(start_pilot))
        .route("/api/shots/{id}/fit", post(fit))
        .route("/api/shots/{id}/finals", post(add_finals))
        .route("/api/shots/{id}/finals/check", post(check_final))
        .route("/api/test", axum::routing::delete(stop_test))
        .route("/api/proofs/{id}", patch(change_proof))
        .route("/api/bin", get(bin).post(delete))
        .route("/api/bin/restore", post(restore))
        .route("/api/bin/empty", post(empty_bin))
        .route("/api/proofs/{id}/further", post(go_on))
        .route("/api/proofs/{id}/repeat", post(repeat_test))
        .route("/api/proofs/{id}/take", post(take_tuning))
        .route("/api/proofs/{id}/picture", get(picture))
        .route("/api/proofs/{id}/pixel", get(pixel))
        .route("/api/proofs/{id}/legends", get(legends))
        .route("/api/proofs/{id}/ledger", get(ledger))
        .route("/api/proofs/{id}/clean-up", get(clean_up))
        .route("/api/proofs/{id}/advice", get(advice).post(take_advice))
        .route("/api/proofs/{id}/trials", post(start_trials))
        .route("/api/proofs/{id}/thumb.png", get(thumbnail))
        .route("/api/compare", get(compare))
        .route("/api/difference", get(difference))
        .route("/api/look-change", get(look_change))
        .route("/api/finals", get(finals))
        .route("/api/finals/{id}", get(one_final))
        .route("/api/finals/{id}/cancel", post(cancel_final))
        .route("/api/finals/{id}/pause", post(pause_final))
        .route("/api/finals/{id}/resume", post(resume_final))
        .route("/api/finals/{id}/turn", post(move_final))
        .route("/api/finals/{id}/top-up", post(top_up))
        .route("/api/finals/{id}/again", post(render_again))
        .route("/api/finals/{id}/now.png", get(final_now))
        .route("/api/finals/{id}/files/{name}", get(final_file))
        .route("/api/{*rest}", axum::routing::any(unknown))
}

async fn unknown() -> Failure {
    Failure(Fault::new(Code::NotFound, "the API has no such address", "address", "reload the page"))
}

pub(crate) fn read<T: DeserializeOwned>(body: Result<Bytes, BytesRejection>) -> Result<T, Failure> {
    let bytes = body?;
    let text: &[u8] = if bytes.is_empty() { b"{}" } else { &bytes };
    serde_json::from_slice(text).map_err(|e| {
        Failure(Fault::new(
            Code::WrongType,
            format!("the request cannot be read: {e}"),
            "body",
            "send JSON of the API's types",
        ))
    })
}

pub(crate) type Body = Result<Bytes, BytesRejection>;

async fn shots(State(app): State<App>) -> Answer<Vec<workshop::ShotView>> {
    work(app, |w| w.shots()).await.map(Json)
}

async fn add_shot(State(app): State<App>, body: Body) -> Answer<workshop::ShotView> {
    let new: workshop::NewShot = read(body)?;
    work(app, move |w| w.add_shot(&new).and_then(|id| w.shot(id))).await.map(Json)
}

async fn shot(State(app): State<App>, Path(id): Path<i64>) -> Answer<workshop::ShotView> {
    work(app, move |w| w.shot(id)).await.map(Json)
}

async fn change_shot(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<workshop::ShotView> {
    let change: workshop::ShotChange = read(body)?;
    work(app, move |w| w.change_shot(id, &change)).await.map(Json)
}

async fn revisions(State(app): State<App>, Path(id): Path<i64>) -> Answer<Vec<workshop::RevisionView>> {
    work(app, move |w| w.revisions(id)).await.map(Json)
}

async fn go_to_revision(State(app): State<App>, Path((id, number)): Path<(i64, i64)>) -> Answer<workshop::ShotView> {
    work(app, move |w| w.go_to_revision(id, number)).await.map(Json)
}

/// Most rows of one page of a list.
const PAGE: u32 = 100;

/// A page of a list: proofs older than one, or finals from one on.
#[derive(Deserialize)]
struct Page {
    before: Option<i64>,
    #[serde(default)]
    skip: u32,
    most: Option<u32>,
    #[serde(default)]
    ended: bool,
}

impl Page {
    fn most(&self) -> u32 {
        self.most.unwrap_or(PAGE).clamp(1, PAGE)
    }
}

async fn proofs(State(app): State<App>, Path(id): Path<i64>, Query(q): Query<Page>) -> Answer<workshop::ProofsView> {
    work(app, move |w| w.proofs_before(id, q.before.unwrap_or(i64::MAX), q.most())).await.map(Json)
}

async fn start_test(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<workshop::ProofView> {
    let test: workshop::NewTest = read(body)?;
    work(app, move |w| w.start_test(id, &test).and_then(|p| w.proof(p))).await.map(Json)
}

#[derive(Deserialize)]
struct Name {
    name: String,
}

async fn name_revision(
    State(app): State<App>,
    Path((id, number)): Path<(i64, i64)>,
    body: Body,
) -> Answer<Vec<workshop::RevisionView>> {
    let given: Name = read(body)?;
    work(app, move |w| w.name_revision(id, number, &given.name).and_then(|()| w.revisions(id))).await.map(Json)
}

async fn duplicate_shot(State(app): State<App>, Path(id): Path<i64>) -> Answer<workshop::ShotView> {
    work(app, move |w| w.duplicate_shot(id).and_then(|copy| w.shot(copy))).await.map(Json)
}

#[derive(Deserialize)]
struct OfCamera {
    camera: String,
}

async fn glance(State(app): State<App>, Path(id): Path<i64>, Query(q): Query<OfCamera>) -> Result<Response, Failure> {
    let bytes = work(app, move |w| w.glance(id, &q.camera)).await?;
    let headers = [(header::CONTENT_TYPE, "image/png"), (header::CACHE_CONTROL, "private, max-age=60")];
    Ok((headers, bytes).into_response())
}

async fn regions(State(app): State<App>, Path(id): Path<i64>) -> Answer<Vec<workshop::RegionView>> {
    work(app, move |w| w.regions(id)).await.map(Json)
}

async fn add_region(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<Vec<workshop::RegionView>> {
    let new: workshop::NewRegion = read(body)?;
    work(app, move |w| w.add_region(id, &new)).await.map(Json)
}

async fn delete_region(State(app): State<App>, Path((id, region)): Path<(i64, i64)>) -> Answer<()> {
    work(app, move |w| w.delete_region(id, region)).await.map(Json)
}

async fn make_reference(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<workshop::ProofView> {
    let test: workshop::NewTest = read(body)?;
    work(app, move |w| w.make_reference(id, test.region).and_then(|p| w.proof(p))).await.map(Json)
}

async fn reference_forecast(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<Option<advice::Brief>> {
    let test: workshop::NewTest = read(body)?;
    work(app, move |w| w.reference_forecast(id, test.region)).await.map(Json)
}

async fn stop_test(State(app): State<App>) -> Answer<bool> {
    work(app, |w| Ok(w.stop_test_at_once())).await.map(Json)
}

async fn forecast(State(app): State<App>, Path(id): Path<i64>) -> Answer<Option<workshop::ForecastView>> {
    work(app, move |w| w.forecast(id)).await.map(Json)
}

async fn proofs_csv(State(app): State<App>, Path(id): Path<i64>) -> Result<Response, Failure> {
    let text = work(app, move |w| w.proofs_csv(id)).await?;
    let heads = [
        (header::CONTENT_TYPE, "text/csv; charset=utf-8"),
        (header::CONTENT_DISPOSITION, "attachment; filename=\"proofs.csv\""),
    ];
    Ok((heads, text).into_response())
}

async fn contact_sheet(State(app): State<App>, Path(id): Path<i64>) -> Result<Response, Failure> {
    let bytes = work(app, move |w| w.contact_sheet(id)).await?;
    let heads =
        [(header::CONTENT_TYPE, "image/png"), (header::CONTENT_DISPOSITION, "attachment; filename=\"proofs.png\"")];
    Ok((heads, bytes).into_response())
}

/// The archive goes through a file: films are large.
async fn export_shot(State(app): State<App>, Path(id): Path<i64>) -> Result<Response, Failure> {
    let (name, file) = work(app, move |w| {
        let name = w.shot(id)?.name;
        let mut file = w.working_file()?;
        w.export_shot(id, &mut file)?;
        std::io::Seek::rewind(&mut file).map_err(|e| Fault::io("export", &e))?;
        Ok((name, file))
    })
    .await?;
    let plain: String = name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    let body = axum::body::Body::from_stream(tokio_util::io::ReaderStream::new(tokio::fs::File::from_std(file)));
    let heads = [
        (header::CONTENT_TYPE, "application/zip".to_string()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{plain}.zip\"")),
    ];
    Ok((heads, body).into_response())
}

async fn start_pilot(State(app): State<App>, Path(id): Path<i64>) -> Answer<i64> {
    work(app, move |w| w.start_pilot(id)).await.map(Json)
}

async fn fit(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<Option<workshop::FitView>> {
    let wanted: advice::Wanted = read(body)?;
    work(app, move |w| w.fit(id, &wanted)).await.map(Json)
}

async fn add_finals(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<workshop::Ordered> {
    let new: workshop::NewFinal = read(body)?;
    work(app, move |w| w.add_finals(id, &new)).await.map(Json)
}

async fn check_final(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<Vec<workshop::Check>> {
    let new: workshop::NewFinal = read(body)?;
    work(app, move |w| w.check_final(id, &new)).await.map(Json)
}

async fn change_proof(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<workshop::ProofView> {
    let change: workshop::ProofChange = read(body)?;
    work(app, move |w| w.change_proof(id, &change)).await.map(Json)
}

#[derive(Deserialize)]
struct Items {
    /// All of them where there are none.
    #[serde(default)]
    items: Vec<workshop::BinItem>,
}

async fn bin(State(app): State<App>) -> Answer<Vec<workshop::BinEntry>> {
    work(app, |w| w.bin()).await.map(Json)
}

async fn delete(State(app): State<App>, body: Body) -> Answer<()> {
    let which: Items = read(body)?;
    work(app, move |w| w.delete(&which.items)).await.map(Json)
}

async fn restore(State(app): State<App>, body: Body) -> Answer<()> {
    let which: Items = read(body)?;
    work(app, move |w| w.restore(&which.items)).await.map(Json)
}

async fn empty_bin(State(app): State<App>, body: Body) -> Answer<()> {
    let which: Items = read(body)?;
    work(app, move |w| w.empty_bin(&which.items)).await.map(Json)
}

async fn go_on(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<workshop::ProofView> {
    let to: workshop::GoOn = read(body)?;
    work(app, move |w| w.go_on(id, to.most, to.threshold).and_then(|()| w.proof(id))).await.map(Json)
}

async fn repeat_test(State(app): State<App>, Path(id): Path<i64>) -> Answer<workshop::ProofView> {
    work(app, move |w| w.repeat_test(id).and_then(|p| w.proof(p))).await.map(Json)
}

async fn take_tuning(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<()> {
    let take: workshop::TakeBack = read(body)?;
    work(app, move |w| w.take_tuning(id, &take)).await.map(Json)
}

/// How a proof is to be shown; what is absent is as its own description says.
#[derive(Deserialize)]
struct LookQuery {
    layer: Option<Layer>,
    /// The part or light of the layers that show one.
    part: Option<String>,
    exposure: Option<f64>,
    transform: Option<Transform>,
    table: Option<u32>,
    /// `none` or the name of a denoiser.
    denoise: Option<String>,
    blend: Option<f64>,
    /// Which groups of parts are denoised.
    diffuse: Option<bool>,
    specular: Option<bool>,
    rest: Option<bool>,
    /// Strength at which stray pixels go.
    stray: Option<f64>,
    /// Flat areas that are none, and others that are: `x,y,width,height` with semicolons between.
    struck: Option<String>,
    pointed: Option<String>,
    threshold: Option<f64>,
}

impl LookQuery {
    fn of(&self, w: &Workshop, proof: i64) -> Result<Look, Fault> {
        let mut look = w.look_of(proof)?;
        let numbers =
            [(self.exposure, "exposure"), (self.blend, "blend"), (self.stray, "stray"), (self.threshold, "threshold")];
        for (x, name) in numbers {
            if x.is_some_and(|x| !x.is_finite()) {
                return Err(Fault::new(Code::NotANumber, "not a finite number", name, "give a number"));
            }
        }
        look.part = self.part.clone().unwrap_or_default();
        look.view = Workshop::view(self.exposure, self.transform, self.table, look.view);
        if let Some(name) = self.denoise.as_deref() {
            look.clean.method = match Method::named(name) {
                None if name != "none" => {
                    let known = Method::ALL.map(Method::name).join(", ");
                    let what = format!("there is no denoiser \"{name}\"");
                    return Err(Fault::new(Code::NotFound, what, "denoise", format!("choose none, {known}")));
                }
                method => method,
            };
        }
        let share = |to: &mut f32, from: Option<f64>| from.into_iter().for_each(|x| *to = x.clamp(0.0, 1.0) as f32);
        share(&mut look.clean.blend, self.blend);
        share(&mut look.clean.stray, self.stray);
        for (group, chosen) in look.clean.groups.iter_mut().zip([self.diffuse, self.specular, self.rest]) {
            *group = chosen.unwrap_or(*group);
        }
        look.hints = Hints { struck: areas(&self.struck, "struck")?, pointed: areas(&self.pointed, "pointed")? };
        if let Some(t) = self.threshold {
            look.threshold = t.clamp(1e-5, 1.0);
        }
        Ok(look)
    }
}

fn areas(text: &Option<String>, place: &str) -> Result<Vec<Region>, Fault> {
    let parts = text.iter().flat_map(|t| t.split(';')).filter(|p| !p.is_empty());
    let region = |part: &str| -> Option<Region> {
        let numbers: Vec<u32> = part.split(',').map(|n| n.parse().ok()).collect::<Option<_>>()?;
        let [x, y, width, height] = *numbers else { return None };
        (width > 0 && height > 0).then_some(Region { x, y, width, height })
    };
    let wrong = |part: &str| {
        let remedy = "give x,y,width,height of each, with semicolons between";
        Fault::new(Code::WrongType, format!("\"{part}\" is no region"), place, remedy)
    };
    parts.map(|p| region(p).ok_or_else(|| wrong(p))).collect()
}

async fn picture(State(app): State<App>, Path(id): Path<i64>, Query(q): Query<LookQuery>) -> Result<Response, Failure> {
    let shown = work(app, move |w| {
        let look = q.of(w, id)?;
        w.show(id, q.layer.unwrap_or(Layer::Picture), &look)
    })
    .await?;
    Ok(pixels(shown))
}

/// Eight little-endian 32-bit numbers (frame width and height; region x, y, width and height; width and height of the picture
/// in its own pixels), then RGBA bytes.
fn pixels(shown: workshop::Shown) -> Response {
    let r = shown.region;
    let mut bytes = Vec::with_capacity(32 + shown.rgba.len());
    for n in [shown.frame.0, shown.frame.1, r.x, r.y, r.width, r.height, shown.size.0, shown.size.1] {
        bytes.extend(n.to_le_bytes());
    }
    bytes.extend(shown.rgba);
    let headers = [(header::CONTENT_TYPE, "application/octet-stream"), (header::CACHE_CONTROL, "no-store")];
    (headers, bytes).into_response()
}

#[derive(Deserialize)]
struct At {
    x: u32,
    y: u32,
}

async fn pixel(
    State(app): State<App>,
    Path(id): Path<i64>,
    Query(at): Query<At>,
    Query(q): Query<LookQuery>,
) -> Answer<workshop::PixelReadout> {
    work(app, move |w| {
        let look = q.of(w, id)?;
        w.pixel(id, at.x, at.y, &look)
    })
    .await
    .map(Json)
}

async fn legends(State(app): State<App>, Path(id): Path<i64>, Query(q): Query<LookQuery>) -> Answer<workshop::Legends> {
    work(app, move |w| {
        let look = q.of(w, id)?;
        w.legends(id, &look)
    })
    .await
    .map(Json)
}

/// A part of the frame; all or none of its numbers.
#[derive(Deserialize)]
struct Part {
    x: Option<u32>,
    y: Option<u32>,
    width: Option<u32>,
    height: Option<u32>,
}

#[derive(Deserialize)]
struct Radius {
    radius: f64,
}

/// A pixel filter by name, at a radius that its knob allows.
fn filter_of(name: &str, radius: f64) -> Result<(Filter, f64), Fault> {
    let filter = PixelFilter::named(name).map(tracer::filter_of).ok_or_else(|| {
        Fault::new(
            Code::NotFound,
            format!("there is no pixel filter \"{name}\""),
            "filter",
            "choose one of the panel's",
        )
    })?;
    if !(0.25..=4.0).contains(&radius) {
        return Err(Fault::new(Code::OutOfRange, format!("a radius of {radius}"), "radius", "give 0.25 to 4 pixels"));
    }
    Ok((filter, radius))
}

async fn filter_character(Path(name): Path<String>, Query(q): Query<Radius>) -> Answer<Character> {
    let (filter, radius) = filter_of(&name, q.radius)?;
    Ok(Json(filter.character(radius)))
}

/// A small chart as the filter shows it.
async fn filter_chart(Path(name): Path<String>, Query(q): Query<Radius>) -> Result<Response, Failure> {
    let (filter, radius) = filter_of(&name, q.radius)?;
    let bytes = tokio::task::spawn_blocking(move || -> Result<Vec<u8>, Fault> {
        let mut out = Vec::new();
        let size = (CHART as u32, CHART as u32);
        png(&mut out, &chart(filter, radius), size, &View::PLAIN, PngForm::PLAIN)?;
        Ok(out)
    })
    .await
    .map_err(|e| Fault::internal(e.to_string(), "filter"))??;
    Ok(([(header::CONTENT_TYPE, "image/png")], bytes).into_response())
}

async fn clean_up(State(app): State<App>, Path(id): Path<i64>, Query(q): Query<LookQuery>) -> Answer<CleanUpView> {
    work(app, move |w| w.clean_up(id, &q.of(w, id)?)).await.map(Json)
}

async fn ledger(State(app): State<App>, Path(id): Path<i64>, Query(q): Query<Part>) -> Answer<workshop::LedgerView> {
    let part = match (q.x, q.y, q.width, q.height) {
        (Some(x), Some(y), Some(width), Some(height)) => Some(picture::Region { x, y, width, height }),
        _ => None,
    };
    work(app, move |w| w.ledger(id, part)).await.map(Json)
}

async fn prices(State(app): State<App>, Path(id): Path<i64>) -> Answer<Option<workshop::PricesView>> {
    work(app, move |w| w.prices(id)).await.map(Json)
}

async fn advice(State(app): State<App>, Path(id): Path<i64>) -> Answer<workshop::AdviceView> {
    work(app, move |w| w.advice(id)).await.map(Json)
}

async fn take_advice(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<workshop::AdviceView> {
    let take: workshop::TakeAdvice = read(body)?;
    work(app, move |w| w.take_advice(id, &take).and_then(|()| w.advice(id))).await.map(Json)
}

async fn start_trials(State(app): State<App>, Path(id): Path<i64>) -> Answer<()> {
    work(app, move |w| w.start_trials(id)).await.map(Json)
}

async fn thumbnail(State(app): State<App>, Path(id): Path<i64>, request: Request) -> Result<Response, Failure> {
    let path = app.workshop.thumbnail_file(id);
    file(request, &path, "image/png", (header::CACHE_CONTROL, "private, max-age=86400".into())).await
}

/// Proofs by number, with commas between them, A first.
#[derive(Deserialize)]
struct Compared {
    ids: String,
    reference: Option<i64>,
    /// JSON: how each of them is looked at, by its number.
    looks: Option<String>,
}

fn looks(w: &Workshop, text: &Option<String>) -> Result<workshop::Looks, Fault> {
    let Some(text) = text else { return Ok(workshop::Looks::default()) };
    let asked: BTreeMap<i64, LookQuery> = serde_json::from_str(text).map_err(|e| {
        Fault::new(
            Code::Damaged,
            format!("these looks cannot be read: {e}"),
            "looks",
            "give looks by the numbers of proofs",
        )
    })?;
    asked.into_iter().map(|(id, q)| Ok((id, q.of(w, id)?))).collect()
}

async fn compare(State(app): State<App>, Query(q): Query<Compared>) -> Answer<workshop::Comparison> {
    let ids = q.ids.split(',').map(|t| t.trim().parse()).collect::<Result<Vec<i64>, _>>().map_err(|_| {
        Failure(Fault::new(Code::NotANumber, "not a list of proofs", "ids", "give numbers with commas between them"))
    })?;
    work(app, move |w| w.compare(&ids, q.reference, &looks(w, &q.looks)?)).await.map(Json)
}

#[derive(Deserialize)]
struct Pair {
    a: i64,
    b: i64,
    gain: Option<f64>,
    looks: Option<String>,
}

impl Pair {
    fn gain(&self) -> f64 {
        self.gain.filter(|g| g.is_finite()).unwrap_or(8.0).clamp(0.1, 1000.0)
    }
}

async fn difference(State(app): State<App>, Query(p): Query<Pair>) -> Result<Response, Failure> {
    work(app, move |w| w.difference(p.a, p.b, p.gain(), &looks(w, &p.looks)?)).await.map(pixels)
}

/// `a` is the reference.
async fn look_change(State(app): State<App>, Query(p): Query<Pair>) -> Result<Response, Failure> {
    work(app, move |w| w.look_change(p.b, p.a, p.gain(), &looks(w, &p.looks)?)).await.map(pixels)
}

async fn finals(State(app): State<App>, Query(q): Query<Page>) -> Answer<workshop::FinalsView> {
    work(app, move |w| w.finals_page(q.ended, q.skip, q.most())).await.map(Json)
}

async fn one_final(State(app): State<App>, Path(id): Path<i64>) -> Answer<workshop::FinalView> {
    work(app, move |w| w.one_final(id)).await.map(Json)
}

async fn cancel_final(State(app): State<App>, Path(id): Path<i64>) -> Answer<()> {
    work(app, move |w| w.cancel_final(id)).await.map(Json)
}

async fn pause_final(State(app): State<App>, Path(id): Path<i64>) -> Answer<()> {
    work(app, move |w| w.pause_final(id)).await.map(Json)
}

async fn resume_final(State(app): State<App>, Path(id): Path<i64>) -> Answer<()> {
    work(app, move |w| w.resume_final(id)).await.map(Json)
}

async fn move_final(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<()> {
    let turn: workshop::Turn = read(body)?;
    work(app, move |w| w.move_final(id, turn)).await.map(Json)
}

async fn top_up(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<workshop::FinalView> {
    let more: workshop::TopUp = read(body)?;
    work(app, move |w| w.top_up(id, &more)).await.map(Json)
}

async fn render_again(State(app): State<App>, Path(id): Path<i64>) -> Answer<workshop::FinalView> {
    work(app, move |w| w.render_again(id)).await.map(Json)
}

/// The small picture of a final that is being rendered.
async fn final_now(State(app): State<App>, Path(id): Path<i64>) -> Result<Response, Failure> {
    let bytes = work(app, move |w| w.final_now(id)).await?;
    let heads = [(header::CONTENT_TYPE, "image/png"), (header::CACHE_CONTROL, "no-store")];
    Ok((heads, bytes).into_response())
}

async fn final_file(
    State(app): State<App>,
    Path((id, name)): Path<(i64, String)>,
    request: Request,
) -> Result<Response, Failure> {
    let path = work(app, move |w| w.final_file(id, &name)).await?;
    let kind = match path.extension().and_then(|e| e.to_str()) {
        Some("png") => "image/png",
        Some("tif") => "image/tiff",
        Some("json") => "application/json",
        _ => "image/x-exr",
    };
    if path.ends_with("thumb.png") {
        return file(request, &path, kind, (header::CACHE_CONTROL, "private, no-cache".into())).await;
    }
    download(request, &path, kind).await
}
