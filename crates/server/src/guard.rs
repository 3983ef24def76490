//! Who may speak to the server. It listens on loopback and answers only pages of its own; bound to
//! another address it asks for the access token once and then knows the session's cookie.

use crate::problem::Problem;
use axum::extract::{Request, State};
use axum::http::{header, HeaderMap, HeaderValue, StatusCode};
use axum::middleware::Next;
use axum::response::{IntoResponse, Redirect, Response};

#[derive(Clone)]
pub struct Guard {
    /// Needed when the server can be reached from elsewhere.
    pub token: Option<String>,
}

const CSP: &str = "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; connect-src 'self'; \
                   script-src 'self'; worker-src 'self' blob:; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'";

pub async fn check(State(guard): State<Guard>, request: Request, next: Next) -> Response {
    let mut response = match admit(&guard, &request) {
        Ok(None) => next.run(request).await,
        Ok(Some(welcome)) => welcome,
        Err(p) => p.into_response(),
    };
    let headers = response.headers_mut();
    for (name, value) in [
        ("content-security-policy", CSP),
        ("x-content-type-options", "nosniff"),
        ("referrer-policy", "no-referrer"),
        ("cross-origin-opener-policy", "same-origin"),
        ("cross-origin-resource-policy", "same-origin"),
    ] {
        headers.insert(name, HeaderValue::from_static(value));
    }
    response
}

fn refused(status: StatusCode, code: &str, message: &str, hint: &str) -> Problem {
    Problem::new(status, code, message, hint)
}

fn admit(guard: &Guard, request: &Request) -> Result<Option<Response>, Problem> {
    let headers = request.headers();
    let host = text(headers, header::HOST).unwrap_or_default();
    if guard.token.is_none() && !is_loopback(host) {
        let hint = "Open Ulmix under the address it printed at start.";
        return Err(refused(StatusCode::FORBIDDEN, "bad_host", "This address is not Ulmix's own.", hint));
    }
    if let Some(origin) = text(headers, header::ORIGIN) {
        if origin.split_once("://").is_none_or(|(_, o)| o != host) {
            let hint = "Only Ulmix's own pages may call it.";
            return Err(refused(StatusCode::FORBIDDEN, "bad_origin", "The request comes from another site.", hint));
        }
    }
    let Some(token) = &guard.token else { return Ok(None) };
    let session = crate::store::hash(format!("session {token}").as_bytes());
    let cookie = text(headers, header::COOKIE).unwrap_or_default();
    if cookie.split(';').any(|c| c.trim().strip_prefix("ulmix=").is_some_and(|v| v == session)) {
        return Ok(None);
    }
    let given = request.uri().query().unwrap_or_default().split('&').find_map(|q| q.strip_prefix("token="));
    if given.is_some_and(|g| crate::store::hash(g.as_bytes()) == crate::store::hash(token.as_bytes())) {
        let cookie = format!("ulmix={session}; HttpOnly; SameSite=Strict; Path=/");
        return Ok(Some(([(header::SET_COOKIE, cookie)], Redirect::to("/")).into_response()));
    }
    let hint = "Open the address with ?token=… that was printed at start.";
    Err(refused(StatusCode::UNAUTHORIZED, "no_token", "This Ulmix asks for its access token.", hint))
}

fn text(headers: &HeaderMap, name: header::HeaderName) -> Option<&str> {
    headers.get(name)?.to_str().ok()
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

    fn ask(token: Option<&str>, uri: &str, headers: &[(&str, &str)]) -> Result<Option<Response>, u16> {
        let mut r = Request::builder().uri(uri);
        for (k, v) in headers {
            r = r.header(*k, *v);
        }
        admit(&Guard { token: token.map(Into::into) }, &r.body(Body::empty()).unwrap()).map_err(|p| p.status)
    }

    #[test]
    fn only_loopback_names_and_own_origins_pass() {
        assert!(ask(None, "/", &[("host", "127.0.0.1:7000")]).is_ok());
        assert!(ask(None, "/", &[("host", "localhost:7000"), ("origin", "http://localhost:7000")]).is_ok());
        assert_eq!(ask(None, "/", &[("host", "evil.example")]).unwrap_err(), 403);
        assert_eq!(ask(None, "/", &[("host", "127.0.0.1.evil.example:80")]).unwrap_err(), 403);
        assert_eq!(ask(None, "/", &[("host", "localhost:7000"), ("origin", "http://localhost:7001")]).unwrap_err(), 403);
        assert_eq!(ask(None, "/", &[("host", "localhost:7000"), ("origin", "null")]).unwrap_err(), 403);
    }

    #[test]
    fn a_token_opens_a_session() {
        let host = ("host", "box.local:7000");
        assert_eq!(ask(Some("t0"), "/", &[host]).unwrap_err(), 401);
        assert_eq!(ask(Some("t0"), "/?token=wrong", &[host]).unwrap_err(), 401);
        let welcome = ask(Some("t0"), "/?token=t0", &[host]).unwrap().unwrap();
        let cookie = welcome.headers()["set-cookie"].to_str().unwrap().to_owned();
        assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"));
        let cookie = cookie.split(';').next().unwrap();
        assert!(ask(Some("t0"), "/api/projects", &[host, ("cookie", cookie)]).unwrap().is_none());
    }
}
