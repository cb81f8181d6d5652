//! Connections, and what bounds them: how many there are, how long one may take to say what it wants, how much is worked on at
//! once. One line in the log for every request, with its time and outcome; never its query, which may hold the access key.

use crate::{App, Failure};
use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::{Request, State};
use axum::http::header::{CONTENT_DISPOSITION, HeaderName};
use axum::http::{HeaderValue, StatusCode};
use axum::middleware::Next;
use axum::response::Response;
use fault::{Code, Fault};
use http_body::Body as _;
use http_body_util::BodyExt;
use hyper::server::conn::http1;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::service::TowerToHyperService;
use std::path::Path;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::{Duration, Instant};
use tokio::net::TcpListener;
use tokio::sync::{Semaphore, oneshot};
use tokio_io_timeout::TimeoutStream;
use tower::ServiceExt;
use tower_http::services::ServeFile;
use workshop::Workshop;

/// What one bench takes on at most.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Connections at a time; more wait until one ends.
    pub connections: usize,
    /// Pages that may listen at a time.
    pub sockets: usize,
    /// What a connection may take to send the head of a request, also the next one.
    pub head: Duration,
    /// Between two pieces of a body, and until some of an answer is taken off the connection.
    pub piece: Duration,
    /// Requests that are worked on at a time, and how long others wait for their turn.
    pub at_work: usize,
    pub turn: Duration,
    /// The longest that an answer is worked on, or that what is refused is still heard out.
    pub longest: Duration,
}

impl Default for Limits {
    fn default() -> Limits {
        let seconds = Duration::from_secs;
        Limits {
            connections: 1024,
            sockets: 512,
            head: seconds(30),
            piece: seconds(30),
            at_work: 64,
            turn: seconds(20),
            longest: seconds(900),
        }
    }
}

/// Answers for as long as it is waited for.
pub async fn serve(listener: TcpListener, router: Router, limits: Limits) -> Result<(), Fault> {
    let room = Arc::new(Semaphore::new(limits.connections));
    loop {
        let place = room.clone().acquire_owned().await.map_err(|e| Fault::internal(e.to_string(), "server"))?;
        let stream = match listener.accept().await {
            Ok((stream, _)) => stream,
            Err(e) => {
                // As when the program has too many files open: it passes.
                tracing::warn!("a connection could not be taken: {e}");
                tokio::time::sleep(Duration::from_millis(100)).await;
                continue;
            }
        };
        // Answers are whole: none waits for more to be sent with it.
        let _ = stream.set_nodelay(true);
        let mut stream = TimeoutStream::new(stream);
        stream.set_write_timeout(Some(limits.piece));
        let service = TowerToHyperService::new(router.clone());
        tokio::spawn(async move {
            let connection = http1::Builder::new()
                .timer(TokioTimer::new())
                .header_read_timeout(limits.head)
                .serve_connection(TokioIo::new(Box::pin(stream)), service)
                .with_upgrades();
            if let Err(e) = connection.await {
                tracing::debug!("a connection broke off: {e}");
            }
            drop(place);
        });
    }
}

/// Runs `f` where it may block, and turns a panic into a fault.
pub(crate) async fn work<T: Send + 'static>(
    app: App,
    f: impl FnOnce(&Workshop) -> Result<T, Fault> + Send + 'static,
) -> Result<T, Failure> {
    let busy = |what: &str| Failure(Fault::new(Code::Busy, what, "bench", "wait a moment, then try again"));
    let limits = app.limits;
    let turn = tokio::time::timeout(limits.turn, app.at_work.clone().acquire_owned()).await;
    let turn = turn.map_err(|_| busy("too much is asked of the bench at once"))?;
    let work = tokio::task::spawn_blocking(move || {
        let _turn = turn;
        let _in_hand = app.workshop.take_in_hand()?;
        f(&app.workshop)
    });
    let late = || busy(&format!("the answer takes more than {:.0} minutes", limits.longest.as_secs_f64() / 60.0));
    let done = tokio::time::timeout(limits.longest, work).await.map_err(|_| late())?;
    done.map_err(|e| Failure(Fault::internal(e.to_string(), "server")))?.map_err(Failure)
}

/// A body that goes back to the door with what nobody has read of it.
struct Lent {
    body: Body,
    back: Option<oneshot::Sender<Body>>,
}

impl http_body::Body for Lent {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<http_body::Frame<Bytes>, axum::Error>>> {
        Pin::new(&mut self.body).poll_frame(context)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> http_body::SizeHint {
        self.body.size_hint()
    }
}

impl Drop for Lent {
    fn drop(&mut self) {
        if let Some(back) = self.back.take() {
            let _ = back.send(std::mem::take(&mut self.body));
        }
    }
}

/// Reads on, and throws away, what is still sent after an answer was given early, as when it is refused for its size. Cutting
/// the connection instead would take the answer away from the sender, who would see a broken connection and no reason.
pub(crate) async fn hear_out(State(limits): State<Limits>, request: Request, next: Next) -> Response {
    let (head, body) = request.into_parts();
    if body.is_end_stream() {
        return next.run(Request::from_parts(head, body)).await;
    }
    let (back, rest) = oneshot::channel::<Body>();
    tokio::spawn(async move {
        let Ok(mut rest) = rest.await else { return };
        let read = async { while let Ok(Some(Ok(_))) = tokio::time::timeout(limits.piece, rest.frame()).await {} };
        let _ = tokio::time::timeout(limits.longest, read).await;
    });
    next.run(Request::from_parts(head, Body::new(Lent { body, back: Some(back) }))).await
}

/// Writes a line for every request.
pub(crate) async fn log(request: Request, next: Next) -> Response {
    let began = Instant::now();
    let (method, path) = (request.method().clone(), request.uri().path().to_string());
    let answer = next.run(request).await;
    let (status, ms) = (answer.status().as_u16(), began.elapsed().as_secs_f64() * 1e3);
    if answer.status().is_server_error() {
        tracing::warn!(%method, path, status, ms = format!("{ms:.1}"), "request");
    } else {
        tracing::info!(%method, path, status, ms = format!("{ms:.1}"), "request");
    }
    answer
}

/// A file as the answer: in ranges where they are asked for, never read into memory whole.
pub(crate) async fn file(
    request: Request,
    path: &Path,
    kind: &str,
    (head, value): (HeaderName, String),
) -> Result<Response, Failure> {
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mime: mime::Mime = kind.parse().unwrap_or(mime::APPLICATION_OCTET_STREAM);
    let served = ServeFile::new_with_mime(path, &mime).oneshot(request).await;
    let served = served.map_err(|e| Fault::internal(e.to_string(), &*name))?;
    match served.status() {
        StatusCode::NOT_FOUND => {
            return Err(Failure(Fault::new(
                Code::NotFound,
                "this file is not there any more",
                name,
                "reload the page",
            )));
        }
        StatusCode::INTERNAL_SERVER_ERROR => {
            let remedy = "check the disk and the data folder's rights";
            return Err(Failure(Fault::new(Code::Io, "the file cannot be read", name, remedy)));
        }
        _ => {}
    }
    let mut answer = served.map(Body::new);
    if let Ok(value) = HeaderValue::from_str(&value) {
        answer.headers_mut().insert(head, value);
    }
    Ok(answer)
}

/// A file to be saved under its name.
pub(crate) async fn download(request: Request, path: &Path, kind: &str) -> Result<Response, Failure> {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let disposition = format!("attachment; filename=\"{}\"", name.replace('"', "'"));
    file(request, path, kind, (CONTENT_DISPOSITION, disposition)).await
}
