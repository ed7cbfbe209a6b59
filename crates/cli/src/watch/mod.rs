//! What other programs see of running pipelines over HTTP, where `[project] watch` says so: figures for a monitoring server, and
//! whether all is well.

pub(crate) mod metrics;

use std::convert::Infallible;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::{Duration, Instant};

use http_body_util::Full;
use hyper::body::{Bytes, Incoming};
use hyper::header::{
    AUTHORIZATION, CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, HeaderValue, WWW_AUTHENTICATE,
    X_CONTENT_TYPE_OPTIONS,
};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::{TokioIo, TokioTimer};
use sha2::{Digest as _, Sha256};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::secret::SecretStore as _;
use sluice_core::threads;
use tokio::net::TcpListener;
use tokio::sync::Semaphore;

use crate::commands::draw::served_page;
use crate::crew::{Crew, Doing, MemberReport};
use crate::project::Project;
use crate::secrets::ProjectSecrets;

/// Connections at a time; more wait.
const CONNECTIONS: usize = 64;

/// How long a request may take to arrive.
const PATIENCE: Duration = Duration::from_secs(5);

/// How long until an address that is taken is tried again.
const AGAIN: Duration = Duration::from_secs(10);

/// The type of the text of OpenMetrics 1.0.
const OPEN_METRICS: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

const PLAIN: &str = "text/plain; charset=utf-8";

const HTML: &str = "text/html; charset=utf-8";

/// For how long a page is shown to everybody who asks; and after how many seconds a browser asks again.
const FRESH: Duration = Duration::from_secs(2);
const REFRESH: u32 = 5;

/// What is served, and to whom.
struct Watch {
    crew: Weak<Crew>,
    /// SHA-256 of the token that every request has to give.
    token: Option<[u8; 32]>,
    /// The project.
    root: PathBuf,
    /// The page as it was drawn last, and when.
    page: Mutex<Option<(Instant, String)>>,
}

/// What is to be served, ready but for the socket.
pub(crate) struct Prepared {
    address: SocketAddr,
    token: Option<[u8; 32]>,
    root: PathBuf,
}

impl Prepared {
    /// Reads the token, where figures are to be served.
    ///
    /// # Errors
    /// Where the token cannot be read.
    pub(crate) fn of(project: &Project) -> Outcome<Option<Self>> {
        let Some(address) = project.config.watch else { return Ok(None) };
        let Some(place) = &project.config.watch_token else {
            return Ok(Some(Self { address, token: None, root: project.root.clone() }));
        };
        let read = ProjectSecrets { root: project.root.clone() }.read(place);
        let read = read.and_then(|secret| match secret.reveal().trim() {
            "" => Err("it is empty".to_string()),
            _ => Ok(secret),
        });
        let secret = read.map_err(|why| {
            let message = format!("the token of `watch` cannot be read: {why}");
            Failure::new(FailureKind::Configuration, message)
                .with_help("set the variable, or make the file, that `watch_token` in sluice.toml names")
        })?;
        let token = Some(Sha256::digest(secret.reveal().trim()).into());
        Ok(Some(Self { address, token, root: project.root.clone() }))
    }

    /// Serves from now on. An address that is taken is tried again: it stops no pipeline.
    pub(crate) fn serve(self, crew: &Arc<Crew>) {
        let watch = Watch { crew: Arc::downgrade(crew), token: self.token, root: self.root, page: Mutex::default() };
        let watch = Arc::new(watch);
        threads::spawn("watch", move || {
            // One thread for all: it answers a monitoring server every few seconds.
            let runtime = tokio::runtime::Builder::new_current_thread().enable_io().enable_time().build();
            match runtime {
                Ok(runtime) => runtime.block_on(listen(self.address, watch)),
                Err(error) => tracing::error!(reason = %error, "cannot serve metrics"),
            }
        });
    }
}

async fn listen(address: SocketAddr, watch: Arc<Watch>) {
    let Some(listener) = bind(address, &watch.crew).await else { return };
    tracing::info!(%address, "serving metrics");
    let room = Arc::new(Semaphore::new(CONNECTIONS));
    loop {
        // The semaphore is never closed.
        let Ok(place) = Arc::clone(&room).acquire_owned().await else { return };
        let Ok((stream, _)) = listener.accept().await else {
            // Out of file numbers, say: others will be free again.
            tokio::time::sleep(Duration::from_millis(100)).await;
            continue;
        };
        let watch = Arc::clone(&watch);
        tokio::spawn(async move {
            let service = service_fn(move |request: Request<Incoming>| {
                let watch = Arc::clone(&watch);
                async move {
                    // The page reads files and the ledger: others are answered meanwhile.
                    let answer = tokio::task::spawn_blocking(move || watch.answer(&request)).await;
                    let gone = || plain(StatusCode::INTERNAL_SERVER_ERROR, "the page cannot be drawn\n".into());
                    Ok::<_, Infallible>(answer.unwrap_or_else(|_| gone()))
                }
            });
            let served = http1::Builder::new()
                .timer(TokioTimer::new())
                .header_read_timeout(PATIENCE)
                .keep_alive(false)
                .serve_connection(TokioIo::new(stream), service);
            // Who sends nonsense, or nothing, is let go.
            let _ = tokio::time::timeout(2 * PATIENCE, served).await;
            drop(place);
        });
    }
}

async fn bind(address: SocketAddr, crew: &Weak<Crew>) -> Option<TcpListener> {
    let mut said = false;
    loop {
        match TcpListener::bind(address).await {
            Ok(listener) => return Some(listener),
            Err(error) if !said => {
                tracing::error!(%address, reason = %error, "cannot serve metrics; retrying");
                said = true;
            }
            Err(_) => {}
        }
        crew.upgrade()?;
        tokio::time::sleep(AGAIN).await;
    }
}

fn plain(status: StatusCode, text: String) -> Response<Full<Bytes>> {
    response(status, PLAIN, text)
}

fn response(status: StatusCode, kind: &'static str, text: String) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::new(Bytes::from(text)));
    *response.status_mut() = status;
    let headers = response.headers_mut();
    headers.insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    headers.insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    // Whatever got into the page: nothing of it runs, and nothing is fetched.
    headers.insert(CONTENT_SECURITY_POLICY, HeaderValue::from_static("default-src 'none'; style-src 'unsafe-inline'"));
    if status == StatusCode::UNAUTHORIZED {
        headers.insert(WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
    }
    response
}

impl Watch {
    fn answer(&self, request: &Request<Incoming>) -> Response<Full<Bytes>> {
        let (status, kind, text) = self.text_of(request);
        response(status, kind, text)
    }

    fn text_of(&self, request: &Request<Incoming>) -> (StatusCode, &'static str, String) {
        if !self.is_allowed(request) {
            return (StatusCode::UNAUTHORIZED, PLAIN, "a token is required: Authorization: Bearer TOKEN\n".into());
        }
        if !matches!(*request.method(), Method::GET | Method::HEAD) {
            return (StatusCode::METHOD_NOT_ALLOWED, PLAIN, "only GET\n".into());
        }
        let Some(crew) = self.crew.upgrade() else {
            return (StatusCode::SERVICE_UNAVAILABLE, PLAIN, "stopping\n".into());
        };
        match request.uri().path() {
            "/metrics" => match metrics::text(&crew) {
                Ok(text) => (StatusCode::OK, OPEN_METRICS, text),
                Err(_) => (StatusCode::INTERNAL_SERVER_ERROR, PLAIN, "the metrics cannot be written\n".into()),
            },
            "/alive" => (StatusCode::OK, PLAIN, "alive\n".into()),
            "/ready" => ready(&crew.reports()),
            "/" => match self.page(&crew) {
                Ok(page) => (StatusCode::OK, HTML, page),
                Err(failure) => {
                    let text = format!("{}\n", sluice_core::printable::line(&failure.message));
                    (StatusCode::INTERNAL_SERVER_ERROR, PLAIN, text)
                }
            },
            _ => (StatusCode::NOT_FOUND, PLAIN, "there are /, /metrics, /alive and /ready\n".into()),
        }
    }

    /// The page, drawn again where it is older than what it shows may be.
    fn page(&self, crew: &Arc<Crew>) -> Outcome<String> {
        let mut known = self.page.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((at, page)) = &*known
            && at.elapsed() < FRESH
        {
            return Ok(page.clone());
        }
        let page = served_page(&self.root, &crew.reports(), REFRESH)?;
        *known = Some((Instant::now(), page.clone()));
        Ok(page)
    }

    /// Compares digests: how long that takes says nothing of the token.
    fn is_allowed(&self, request: &Request<Incoming>) -> bool {
        let Some(token) = &self.token else { return true };
        let given = request.headers().get(AUTHORIZATION).and_then(|given| given.to_str().ok());
        let given = given.and_then(|given| given.strip_prefix("Bearer "));
        given.is_some_and(|given| <[u8; 32]>::from(Sha256::digest(given.trim())) == *token)
    }
}

/// Whether all pipelines do what they should: none has failed, and nothing that they need is away.
fn ready(reports: &[MemberReport]) -> (StatusCode, &'static str, String) {
    let wrong = |report: &MemberReport| match &report.doing {
        Doing::Waits { reason, .. } | Doing::Stopped { reason } => Some(reason.clone()),
        _ if !report.moved.away.is_empty() => Some(report.moved.away.join("; ")),
        _ => None,
    };
    let lines: Vec<String> = reports
        .iter()
        .filter_map(|report| Some(format!("{}: {}", report.pipeline, sluice_core::printable::line(&wrong(report)?))))
        .collect();
    match lines.is_empty() {
        true => (StatusCode::OK, PLAIN, "ready\n".into()),
        false => (StatusCode::SERVICE_UNAVAILABLE, PLAIN, lines.join("\n") + "\n"),
    }
}
