//! The access token, from the command line to the session.

use super::running::{failing, text, ServedApp};

#[test]
fn a_token_is_asked_for_on_loopback_too_and_may_come_from_a_file() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("token");
    let token = "keel & float 100% + more=ü";
    std::fs::write(&file, format!("{token}\nnotes that do not count\n")).unwrap();
    let s = ServedApp::with(&dir.path().join("u.sqlite"), &["--token-file", text(&file)]);
    s.get("/api/projects").problem(401, "no_token");
    // A person gets a page to type it on; it is a form.
    let page = s.send("GET", "/", &[("accept", "text/html")], &[]);
    assert!(page.status == 401 && String::from_utf8_lossy(&page.body).contains("name=\"token\""));
    let encoded: String = token.bytes().map(|b| format!("%{b:02x}")).collect();
    let form = format!("token={encoded}");
    let agent = ureq::AgentBuilder::new().redirects(0).build();
    let entered = agent.post(&format!("{}/api/session", s.url)).send_string(&form).unwrap();
    assert_eq!(entered.status(), 303);
    let cookie = entered.header("set-cookie").unwrap().split(';').next().unwrap().to_owned();
    let with = [("cookie", cookie.as_str())];
    assert_eq!(s.send("GET", "/api/projects", &with, &[]).status, 200);
    assert_eq!(s.send("GET", "/api/options", &with, &[]).json()["can_log_out"], true);
    assert_eq!(s.send("DELETE", "/api/session", &with, &[]).status, 204);
    s.send("GET", "/api/projects", &with, &[]).problem(401, "no_token");
    s.send("POST", "/api/session", &[], b"token=guess").problem(401, "wrong_token");
}

#[test]
fn weak_tokens_are_refused_and_an_open_address_never_goes_without() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("u.sqlite");
    for weak in ["short", "0123456789abcdef", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"] {
        let (code, told) =
            failing(&["serve", "--bind", "0.0.0.0:0", "--data", text(&data), "--token", weak]);
        assert!(code == Some(2) && told.contains("at least 22 characters"), "{told}");
    }
    let (code, told) =
        failing(&["serve", "--data", text(&data), "--token-file", text(&dir.path().join("none"))]);
    assert!(code == Some(2) && told.contains("cannot be read"), "{told}");
    // Without one it makes its own.
    let s = ServedApp::with(&data, &["--bind", "0.0.0.0:0"]);
    let url = s.url.replace("0.0.0.0", "127.0.0.1");
    assert_eq!(
        ureq::get(&format!("{url}/api/projects"))
            .call()
            .unwrap_err()
            .into_response()
            .unwrap()
            .status(),
        401
    );
}
