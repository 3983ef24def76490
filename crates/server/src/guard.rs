//! Who may speak to the server. The server listens on loopback and answers only pages of its own.
//! With an access token the server asks for the token once and then knows the session's cookie,
//! which ends after a while or by logging out.

use crate::problem::Problem;
use crate::store::hex;
use axum::extract::{Request, State};
use axum::http::{header, HeaderMap, HeaderValue, Method, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Redirect, Response};
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use ulmix_runner::locked::lock;

/// A session that is not used for so long ends, and any after the longer time.
const IDLE: Duration = Duration::from_secs(12 * 3600);
const LONGEST: Duration = Duration::from_secs(7 * 24 * 3600);
/// Sessions at once.
const SESSIONS: usize = 1000;
/// Wrong tokens within a minute, after which nobody is let in for the rest of it.
const GUESSES: usize = 10;
const MINUTE: Duration = Duration::from_secs(60);
/// Bytes of a log-in.
const LONGEST_FORM: usize = 4096;
/// Characters of a token from outside: of letters and digits in any case so many have more than 128
/// bits.
const LEAST_TOKEN: usize = 22;

/// Who may speak to the server.
#[derive(Clone, Default)]
pub struct Guard(Option<Arc<Locked>>);

/// What is asked of everybody.
struct Locked {
    /// SHA-256 of the token: comparing hashes tells nothing of how much of a guess was right.
    token: [u8; 32],
    sessions: Mutex<HashMap<[u8; 32], Session>>,
    wrong: Mutex<Vec<Instant>>,
}

struct Session {
    begun: Instant,
    used: Instant,
}

const CSP: &str = "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; connect-src 'self'; \
                   script-src 'self'; worker-src 'self' blob:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'";

/// Is a token from outside too easily guessed? Why, in words.
pub fn weak(token: &str) -> Option<String> {
    let mut kinds: Vec<char> = token.chars().collect();
    kinds.sort_unstable();
    kinds.dedup();
    (token.chars().count() < LEAST_TOKEN || kinds.len() < 8).then(|| {
        format!("An access token needs at least {LEAST_TOKEN} characters, drawn at random.")
    })
}

/// A token of 192 random bits.
pub fn new_token() -> std::io::Result<String> {
    random::<24>().map(|bytes| hex(&bytes))
}

/// Bytes that nobody can guess.
fn random<const N: usize>() -> std::io::Result<[u8; N]> {
    use std::io::Read;
    let mut bytes = [0; N];
    std::fs::File::open("/dev/urandom")?.read_exact(&mut bytes)?;
    Ok(bytes)
}

fn hashed(text: &str) -> [u8; 32] {
    Sha256::digest(text.as_bytes()).into()
}

/// Lets a request through, or answers it.
pub async fn check(State(guard): State<Guard>, request: Request, next: Next) -> Response {
    let mut response = match guard.admit(request).await {
        Ok(Admitted::Request(request)) => next.run(request).await,
        Ok(Admitted::Answered(response)) => response,
        Err(p) => p.into_response(),
    };
    let headers = response.headers_mut();
    for (name, value) in [
        ("content-security-policy", CSP),
        ("x-content-type-options", "nosniff"),
        ("referrer-policy", "same-origin"),
        ("cross-origin-opener-policy", "same-origin"),
        ("cross-origin-resource-policy", "same-origin"),
    ] {
        headers.insert(name, HeaderValue::from_static(value));
    }
    let kind = headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    if kind.contains("json") && !headers.contains_key(header::CACHE_CONTROL) {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    response
}

fn refused(status: StatusCode, code: &str, message: &str, hint: &str) -> Problem {
    Problem::new(status, code, message, hint)
}

#[derive(Debug)]
enum Admitted {
    /// A request that may go on to be answered.
    Request(Request),
    /// The answer to a log-in, a log-out, or somebody without a session.
    Answered(Response),
}

impl Guard {
    /// Asks for a token, if there is one.
    pub fn new(token: Option<&str>) -> Guard {
        Guard(token.map(|token| {
            Arc::new(Locked {
                token: hashed(token),
                sessions: Mutex::default(),
                wrong: Mutex::default(),
            })
        }))
    }

    async fn admit(&self, request: Request) -> Result<Admitted, Problem> {
        let headers = request.headers();
        let host = text(headers, header::HOST).unwrap_or_default();
        if self.0.is_none() && !is_loopback(host) {
            let hint = "Open Ulmix under the address it printed at start.";
            return Err(refused(
                StatusCode::FORBIDDEN,
                "bad_host",
                "This address is not Ulmix's own.",
                hint,
            ));
        }
        let elsewhere = || {
            let hint = "Only Ulmix's own pages may call it.";
            refused(
                StatusCode::FORBIDDEN,
                "bad_origin",
                "The request comes from another site.",
                hint,
            )
        };
        if let Some(origin) = text(headers, header::ORIGIN) {
            if origin.split_once("://").is_none_or(|(_, o)| o != host) {
                return Err(elsewhere());
            }
        }
        // A page of another site can have pictures and scripts fetched without telling its origin.
        let path = request.uri().path();
        let site = headers.get("sec-fetch-site").and_then(|v| v.to_str().ok());
        if path.starts_with("/api") && matches!(site, Some("cross-site" | "same-site")) {
            return Err(elsewhere());
        }
        let Some(locked) = &self.0 else { return Ok(Admitted::Request(request)) };
        let session = cookie(headers);
        let is_person = text(headers, header::ACCEPT).is_some_and(|a| a.contains("text/html"));
        match (request.method(), path) {
            (&Method::POST, "/api/session") => {
                let body = axum::body::to_bytes(request.into_body(), LONGEST_FORM).await;
                let form = body.map_err(|_| {
                    refused(
                        StatusCode::BAD_REQUEST,
                        "bad_request",
                        "The log-in did not arrive whole.",
                        "Try it again.",
                    )
                })?;
                let token = parameter(&String::from_utf8_lossy(&form), "token").unwrap_or_default();
                return match locked.let_in(&token) {
                    Err(p) if is_person => Ok(Admitted::Answered(log_in(Some(&p)))),
                    answer => answer.map(Admitted::Answered),
                };
            }
            (&Method::DELETE, "/api/session") => {
                locked.end(session.as_deref());
                let gone = format!("{COOKIE}=; HttpOnly; SameSite=Strict; Path=/; Max-Age=0");
                return Ok(Admitted::Answered(
                    (StatusCode::NO_CONTENT, [(header::SET_COOKIE, gone)]).into_response(),
                ));
            }
            _ => {}
        }
        if session.is_some_and(|s| locked.knows(&s)) {
            return Ok(Admitted::Request(request));
        }
        if let Some(token) = parameter(request.uri().query().unwrap_or_default(), "token") {
            return locked.let_in(&token).map(Admitted::Answered);
        }
        // A person is shown where to type it.
        if !path.starts_with("/api") && is_person {
            return Ok(Admitted::Answered(log_in(None)));
        }
        let hint =
            "Open the address that was printed at start, or type the token on the start page.";
        Err(refused(
            StatusCode::UNAUTHORIZED,
            "no_token",
            "This Ulmix asks for its access token.",
            hint,
        ))
    }

    /// Is a token asked for, so that there is something to log out of?
    pub fn is_locked(&self) -> bool {
        self.0.is_some()
    }
}

const COOKIE: &str = "ulmix";
const LOG_IN: &str = include_str!("log_in.html");

/// The page on which a person types the token; after a refusal with its words.
fn log_in(refused: Option<&Problem>) -> Response {
    let (status, words) = match refused {
        Some(p) => (p.status, format!("<p role=\"alert\">{} {}</p>", p.message, p.hint)),
        None => (StatusCode::UNAUTHORIZED.as_u16(), String::new()),
    };
    let status = StatusCode::from_u16(status).unwrap_or(StatusCode::UNAUTHORIZED);
    (
        status,
        [(header::CONTENT_TYPE, "text/html; charset=utf-8")],
        LOG_IN.replace("<!-- refused -->", &words),
    )
        .into_response()
}

impl Locked {
    /// Begins a session for the right token.
    fn let_in(&self, token: &str) -> Result<Response, Problem> {
        let mut wrong = lock(&self.wrong);
        wrong.retain(|at| at.elapsed() < MINUTE);
        if wrong.len() >= GUESSES {
            let hint = "Wait a minute and try again.";
            return Err(refused(
                StatusCode::TOO_MANY_REQUESTS,
                "too_many_guesses",
                "Too many wrong access tokens were tried.",
                hint,
            ));
        }
        if hashed(token) != self.token {
            wrong.push(Instant::now());
            let hint =
                "Take it from where it was printed at start, or from the file that it lies in.";
            return Err(refused(
                StatusCode::UNAUTHORIZED,
                "wrong_token",
                "That is not the access token.",
                hint,
            ));
        }
        drop(wrong);
        let id = hex(&random::<32>().map_err(Problem::internal)?);
        let mut sessions = lock(&self.sessions);
        sessions.retain(|_, s| s.is_on());
        if sessions.len() >= SESSIONS {
            if let Some(oldest) = sessions.iter().min_by_key(|s| s.1.used).map(|s| *s.0) {
                sessions.remove(&oldest);
            }
        }
        let now = Instant::now();
        sessions.insert(hashed(&id), Session { begun: now, used: now });
        let cookie = format!(
            "{COOKIE}={id}; HttpOnly; SameSite=Strict; Path=/; Max-Age={}",
            LONGEST.as_secs()
        );
        Ok(([(header::SET_COOKIE, cookie)], Redirect::to("/")).into_response())
    }

    fn knows(&self, session: &str) -> bool {
        let mut sessions = lock(&self.sessions);
        sessions
            .get_mut(&hashed(session))
            .filter(|s| s.is_on())
            .map(|s| s.used = Instant::now())
            .is_some()
    }

    fn end(&self, session: Option<&str>) {
        if let Some(session) = session {
            lock(&self.sessions).remove(&hashed(session));
        }
    }
}

impl Session {
    fn is_on(&self) -> bool {
        self.begun.elapsed() < LONGEST && self.used.elapsed() < IDLE
    }
}

fn text(headers: &HeaderMap, name: header::HeaderName) -> Option<&str> {
    headers.get(name)?.to_str().ok()
}

fn cookie(headers: &HeaderMap) -> Option<String> {
    let all = text(headers, header::COOKIE)?;
    all.split(';').find_map(|c| c.trim().strip_prefix(COOKIE)?.strip_prefix('=').map(str::to_owned))
}

/// A parameter of a query or form, with its special characters.
fn parameter(query: &str, name: &str) -> Option<String> {
    let given = query.split('&').find_map(|q| q.strip_prefix(name)?.strip_prefix('='))?;
    let mut bytes = Vec::with_capacity(given.len());
    let mut rest = given.bytes();
    while let Some(b) = rest.next() {
        bytes.push(match b {
            b'+' => b' ',
            b'%' => {
                let digits = [rest.next()?, rest.next()?];
                u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()?
            }
            b => b,
        });
    }
    String::from_utf8(bytes).ok()
}

fn is_loopback(host: &str) -> bool {
    let name = match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => host,
    };
    matches!(name, "localhost" | "127.0.0.1" | "[::1]")
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::body::Body;

    const TOKEN: &str = "a b+c%&=ü 0123456789 xyz";

    fn ask(
        guard: &Guard,
        method: &str,
        uri: &str,
        headers: &[(&str, &str)],
        body: &str,
    ) -> Result<Option<Response>, u16> {
        let mut r = Request::builder().method(method).uri(uri);
        for (k, v) in headers {
            r = r.header(*k, *v);
        }
        let admitted = guard.admit(r.body(Body::from(body.to_owned())).unwrap());
        let admitted = tokio::runtime::Runtime::new().unwrap().block_on(admitted);
        match admitted {
            Ok(Admitted::Request(_)) => Ok(None),
            Ok(Admitted::Answered(response)) => Ok(Some(response)),
            Err(p) => Err(p.status),
        }
    }

    #[test]
    fn only_loopback_names_and_own_origins_pass() {
        let open = Guard::new(None);
        let get = |uri: &str, headers: &[(&str, &str)]| {
            ask(&open, "GET", uri, headers, "").map(|r| r.is_some())
        };
        let own = ("host", "localhost:7000");
        assert_eq!(get("/", &[("host", "127.0.0.1:7000")]), Ok(false));
        assert_eq!(get("/", &[own, ("origin", "http://localhost:7000")]), Ok(false));
        assert_eq!(get("/", &[("host", "evil.example")]), Err(403));
        assert_eq!(get("/", &[("host", "127.0.0.1.evil.example:80")]), Err(403));
        assert_eq!(get("/", &[own, ("origin", "http://localhost:7001")]), Err(403));
        assert_eq!(get("/", &[own, ("origin", "null")]), Err(403));
        // Pictures on pages of other sites tell no origin.
        assert_eq!(get("/api/projects", &[own, ("sec-fetch-site", "cross-site")]), Err(403));
        assert_eq!(get("/api/projects", &[own, ("sec-fetch-site", "same-origin")]), Ok(false));
        assert_eq!(get("/", &[own, ("sec-fetch-site", "cross-site")]), Ok(false));
    }

    #[test]
    fn a_token_opens_a_session_of_its_own_that_ends_by_logging_out() {
        let locked = Guard::new(Some(TOKEN));
        let host = ("host", "box.local:7000");
        let get =
            |uri: &str, cookie: &str| ask(&locked, "GET", uri, &[host, ("cookie", cookie)], "");
        let status = |r: Result<Option<Response>, u16>| r.map(|r| r.map(|r| r.status().as_u16()));
        assert_eq!(status(get("/api/projects", "")), Err(401));
        assert_eq!(status(get("/?token=wrong", "")), Err(401));
        let page =
            ask(&locked, "GET", "/", &[host, ("accept", "text/html,*/*")], "").unwrap().unwrap();
        assert_eq!(
            (page.status().as_u16(), page.headers()["content-type"].to_str().unwrap()),
            (401, "text/html; charset=utf-8")
        );
        let encoded = "a+b%2Bc%25%26%3D%c3%BC%200123456789%20xyz";
        let by_address = get(&format!("/?token={encoded}"), "").unwrap().unwrap();
        let by_form = ask(&locked, "POST", "/api/session", &[host], &format!("token={encoded}"))
            .unwrap()
            .unwrap();
        let cookie = |r: &Response| {
            let cookie = r.headers()["set-cookie"].to_str().unwrap().to_owned();
            assert!(
                cookie.contains("HttpOnly")
                    && cookie.contains("SameSite=Strict")
                    && cookie.contains("Max-Age")
            );
            cookie.split(';').next().unwrap().to_owned()
        };
        let (one, other) = (cookie(&by_address), cookie(&by_form));
        assert_ne!(one, other, "each log-in is a session of its own");
        assert!(
            get("/api/projects", &one).unwrap().is_none()
                && get("/api/projects", &other).unwrap().is_none()
        );
        let out =
            ask(&locked, "DELETE", "/api/session", &[host, ("cookie", &one)], "").unwrap().unwrap();
        assert_eq!(out.status().as_u16(), 204);
        assert_eq!(status(get("/api/projects", &one)), Err(401));
        assert!(get("/api/projects", &other).unwrap().is_none());
    }

    #[test]
    fn guesses_are_counted() {
        let locked = Guard::new(Some(TOKEN));
        let guess =
            || ask(&locked, "GET", "/?token=guess", &[("host", "box.local")], "").unwrap_err();
        assert!((0..GUESSES).all(|_| guess() == 401));
        assert_eq!(guess(), 429);
    }

    #[test]
    fn tokens_of_few_characters_are_weak_and_our_own_are_not() {
        for token in
            ["", "0123456789abcdef", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaa", "abababababababababababab"]
        {
            assert!(weak(token).is_some(), "{token}");
        }
        let (one, other) = (new_token().unwrap(), new_token().unwrap());
        assert!(weak(&one).is_none() && one != other && weak(TOKEN).is_none());
    }
}
