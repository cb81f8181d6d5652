//! The routes of the library and of what belongs to the whole bench: files that arrive, scenes, environments, overlays and
//! presets, pictures from elsewhere, paper sizes, settings.

use crate::routes::{Answer, Body, Path, Query, read};
use crate::serving::work;
use crate::{App, Failure};
use axum::body::Body as Stream;
use axum::extract::{DefaultBodyLimit, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, patch, post, put};
use axum::{Json, Router};
use fault::{Code, Fault};
use http_body_util::BodyExt;
use picture::paper;
use serde::{Deserialize, Serialize};
use tokio::io::AsyncWriteExt;
use tuning::PartialKind;

/// Largest file that is taken in: archives hold films, and are bounded by the disk.
const MOST_FILE: u64 = 4 << 30;
const MOST_ARCHIVE: u64 = 4 << 40;
/// Largest colour table: 256³ lines of three numbers.
const MOST_TABLE: usize = 480 << 20;

pub fn api() -> Router<App> {
    Router::new()
        .route("/api/scenes", get(scenes))
        .route("/api/tables", get(tables).post(add_table).layer(DefaultBodyLimit::max(MOST_TABLE)))
        .route("/api/environments", get(environments))
        .route("/api/parcels", post(open_parcel))
        .route("/api/parcels/{id}", axum::routing::delete(drop_parcel))
        .route("/api/parcels/{id}/take", post(take_parcel))
        .route("/api/parcels/{id}/picture", post(take_picture))
        .route("/api/parcels/{id}/shot", post(take_shot))
        .route("/api/parcels/{id}/files", put(add_file).layer(DefaultBodyLimit::disable()))
        .route("/api/partials", get(partials).post(add_partial))
        .route("/api/partials/import", post(import_partial))
        .route("/api/partials/{id}", patch(change_partial))
        .route("/api/partials/{id}/file", get(partial_file))
        .route("/api/shots/{id}/overlays", put(set_overlays))
        .route("/api/shots/{id}/presets/{preset}", get(preview).post(apply_preset))
        .route("/api/shots/{id}/ladder", get(ladder))
        .route("/api/papers", get(|| async { Json(paper::PAPERS) }))
        .route("/api/paper", get(print_size))
        .route("/api/settings", get(settings).patch(change_settings))
}

async fn scenes(State(app): State<App>) -> Answer<Vec<workshop::SceneView>> {
    work(app, |w| w.scenes()).await.map(Json)
}

async fn environments(State(app): State<App>) -> Answer<Vec<workshop::EnvironmentView>> {
    work(app, |w| w.environments()).await.map(Json)
}

async fn open_parcel(State(app): State<App>) -> Answer<u64> {
    work(app, |w| w.open_parcel()).await.map(Json)
}

async fn drop_parcel(State(app): State<App>, Path(id): Path<u64>) -> Answer<()> {
    work(app, move |w| {
        w.drop_parcel(id);
        Ok(())
    })
    .await
    .map(Json)
}

async fn take_parcel(State(app): State<App>, Path(id): Path<u64>) -> Answer<workshop::Parcel> {
    work(app, move |w| w.take_parcel(id)).await.map(Json)
}

#[derive(Deserialize)]
struct Named {
    name: String,
}

/// Streams one file of a parcel to disk; an upload that breaks off takes the whole parcel with it.
async fn add_file(State(app): State<App>, Path(id): Path<u64>, Query(q): Query<Named>, body: Stream) -> Answer<u64> {
    let name = q.name.clone();
    let file = work(app.clone(), move |w| w.parcel_file(id, &name)).await?;
    let most = if q.name.to_ascii_lowercase().ends_with(".zip") { MOST_ARCHIVE } else { MOST_FILE };
    let written = stream(&file, body, most).await.map_err(|f| Fault { place: q.name.clone(), ..f });
    if written.is_err() {
        app.workshop.drop_parcel(id);
    }
    Ok(Json(written?))
}

async fn stream(file: &std::path::Path, mut body: Stream, most: u64) -> Result<u64, Fault> {
    let io = |e: std::io::Error| Fault::io("", &e);
    let mut out = tokio::fs::File::create(file).await.map_err(io)?;
    let mut length = 0u64;
    while let Some(frame) = body.frame().await {
        let frame = frame.map_err(|e| {
            Fault::new(Code::Io, format!("the upload broke off after {length} bytes: {e}"), "", "try it again")
        })?;
        let Ok(data) = frame.into_data() else { continue };
        length += data.len() as u64;
        if length > most {
            let what = format!("the file is larger than {} GiB", most >> 30);
            return Err(Fault::new(Code::TooLarge, what, "", "give a smaller file"));
        }
        out.write_all(&data).await.map_err(io)?;
    }
    out.flush().await.map_err(io)?;
    Ok(length)
}

#[derive(Deserialize)]
struct IntoShot {
    shot: i64,
    name: String,
}

async fn tables(State(app): State<App>) -> Answer<Vec<workshop::TableView>> {
    work(app, |w| Ok(w.tables())).await.map(Json)
}

async fn add_table(State(app): State<App>, Query(q): Query<ArchiveQuery>, bytes: Body) -> Answer<workshop::TableView> {
    let bytes = bytes?;
    work(app, move |w| w.add_table(&q.name, &bytes)).await.map(Json)
}

/// The file of a parcel that is the archive of a shot.
#[derive(Deserialize)]
struct ArchiveQuery {
    name: String,
}

/// Takes the shot in that a parcel's archive holds; its number.
async fn take_shot(State(app): State<App>, Path(id): Path<u64>, Query(q): Query<ArchiveQuery>) -> Answer<i64> {
    work(app, move |w| {
        let taken = w.parcel_file(id, &q.name).and_then(|file| w.import_shot(&file));
        w.drop_parcel(id);
        taken.map_err(|f| Fault { place: q.name.clone(), ..f })
    })
    .await
    .map(Json)
}

/// Lays the one file of a parcel into a shot's sheet as a picture from elsewhere.
async fn take_picture(
    State(app): State<App>,
    Path(id): Path<u64>,
    Query(q): Query<IntoShot>,
) -> Answer<workshop::ProofView> {
    work(app, move |w| {
        let taken = w.parcel_file(id, &q.name).and_then(|file| w.add_picture(q.shot, &q.name, &file));
        w.drop_parcel(id);
        taken
    })
    .await
    .map(Json)
}

async fn partials(State(app): State<App>) -> Answer<Vec<workshop::PartialView>> {
    work(app, |w| w.partials()).await.map(Json)
}

async fn add_partial(State(app): State<App>, body: Body) -> Answer<workshop::PartialView> {
    let new: workshop::NewPartial = read(body)?;
    work(app, move |w| w.add_partial(&new)).await.map(Json)
}

async fn change_partial(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<workshop::PartialView> {
    let change: workshop::PartialChange = read(body)?;
    work(app, move |w| w.change_partial(id, &change)).await.map(Json)
}

async fn partial_file(State(app): State<App>, Path(id): Path<i64>) -> Result<Response, Failure> {
    let (name, text) = work(app, move |w| w.partial_file(id)).await?;
    let disposition = format!("attachment; filename=\"{name}\"");
    let headers = [(header::CONTENT_TYPE, "application/json".to_string()), (header::CONTENT_DISPOSITION, disposition)];
    Ok((headers, text).into_response())
}

#[derive(Deserialize)]
struct Import {
    kind: PartialKind,
    name: String,
    /// Take what is understood although something is not.
    #[serde(default)]
    take: bool,
}

async fn import_partial(State(app): State<App>, Query(q): Query<Import>, body: Body) -> Answer<workshop::Imported> {
    let bytes = body?;
    work(app, move |w| w.import_partial(q.kind, &String::from_utf8_lossy(&bytes), &q.name, q.take)).await.map(Json)
}

async fn set_overlays(State(app): State<App>, Path(id): Path<i64>, body: Body) -> Answer<workshop::ShotView> {
    let ids: Vec<i64> = read(body)?;
    work(app, move |w| w.set_overlays(id, &ids).and_then(|()| w.shot(id))).await.map(Json)
}

async fn preview(State(app): State<App>, Path((id, preset)): Path<(i64, i64)>) -> Answer<workshop::Preview> {
    work(app, move |w| w.preview(id, preset)).await.map(Json)
}

async fn apply_preset(State(app): State<App>, Path((id, preset)): Path<(i64, i64)>) -> Answer<workshop::ShotView> {
    work(app, move |w| w.apply_preset(id, preset).and_then(|()| w.shot(id))).await.map(Json)
}

async fn ladder(State(app): State<App>, Path(id): Path<i64>) -> Answer<Vec<workshop::Rung>> {
    work(app, move |w| w.ladder(id)).await.map(Json)
}

/// A side of a print: its length, or its pixels where `pixels` is given.
#[derive(Deserialize)]
struct Print {
    unit: paper::Unit,
    dpi: f64,
    width: f64,
    height: f64,
    #[serde(default)]
    pixels: bool,
}

#[derive(Serialize)]
struct Sides {
    width: f64,
    height: f64,
}

/// Pixels of a print, or the print of so many pixels.
async fn print_size(Query(q): Query<Print>) -> Answer<Sides> {
    let good = |x: f64| x.is_finite() && x > 0.0;
    if !good(q.dpi) || !good(q.width) || !good(q.height) {
        let what = "sides and dots per inch must be above 0";
        return Err(Failure(Fault::new(Code::OutOfRange, what, "print", "give numbers above 0")));
    }
    let turn = |x: f64| if q.pixels { paper::length(x, q.unit, q.dpi) } else { paper::pixels(x, q.unit, q.dpi) };
    Ok(Json(Sides { width: turn(q.width), height: turn(q.height) }))
}

async fn settings(State(app): State<App>) -> Answer<workshop::SettingsView> {
    work(app, |w| Ok(w.settings_view())).await.map(Json)
}

async fn change_settings(State(app): State<App>, body: Body) -> Answer<workshop::SettingsView> {
    let change: workshop::SettingsChange = read(body)?;
    work(app, move |w| w.change_settings(&change)).await.map(Json)
}
