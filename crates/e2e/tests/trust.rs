//! What a person sees of a damaged file of projects, and of a server that asks for its token.

use rusqlite::{params, Connection};
use ulmix_e2e::browser::Bench;

/// One project was saved by a newer Ulmix and another one's part is damaged.
#[tokio::test]
async fn projects_that_cannot_be_read_are_shown_with_ways_out_beside_the_others() {
    let mut b = Bench::start().await;
    b.begin_with(
        "ball.stl",
        &ulmix_formats::stl::write(&ulmix_mesh::TriMesh::sphere(10.0, 4)),
        "20 × 20 × 20 mm",
    )
    .await;
    let damaged = b.path().await.rsplit('/').next().unwrap().to_owned();
    b.open("/").await;
    b.click_text("button", "Float shell").await;
    b.painted("draft").await;
    b.kill_server();
    let newer = r#"{"ulmix":9,"name":"Keel bracket","wings":"many"}"#;
    let db = Connection::open(b.data()).unwrap();
    db.execute("UPDATE revisions SET recipe = ? WHERE project = 'keel-bracket'", [newer]).unwrap();
    db.execute("DELETE FROM cards WHERE project = 'keel-bracket'", []).unwrap();
    let sql = "UPDATE blobs SET data = zeroblob(length(data)) WHERE hash = (SELECT \
         part_blob FROM projects WHERE id = ?)";
    assert_eq!(db.execute(sql, params![damaged]).unwrap(), 1);
    drop(db);
    b.restart_server();

    b.open("/").await;
    b.until("the newer one is told", || async { b.seen(".card.unreadable", "version 9").await })
        .await;
    b.until("the others are listed", || async { b.seen(".card", "Float shell").await }).await;
    assert!(b.seen(".card", "ball").await && !b.seen(".card.unreadable", "ball").await);
    b.open(&format!("/project/{damaged}")).await;
    b.until("the damage is told as damage", || async { b.seen("body", "damaged").await }).await;
    assert!(!b.seen("body", "is safe").await);
    b.open("/").await;
    b.until("the start screen knows it too", || async { b.seen(".card.unreadable", "ball").await })
        .await;

    // The recipe leaves as it is, and then the project goes.
    b.click(".card.unreadable a[href='/api/projects/keel-bracket/recipe.json']").await;
    assert_eq!(b.downloaded("keel-bracket.recipe.json").await, newer.as_bytes());
    let question = || async { b.present(".ant-popconfirm-buttons").await };
    let delete = || async { b.click("[aria-label='Delete Keel bracket']").await };
    b.acted("the question is asked", delete, question).await;
    b.click_text(".ant-popconfirm-buttons button", "Delete").await;
    b.until("it is gone", || async { !b.seen(".card", "Keel bracket").await }).await;
    assert!(b.seen(".card", "Float shell").await);
}

#[tokio::test]
async fn a_token_is_typed_once_and_asked_again_after_logging_out() {
    let mut b = Bench::start().await;
    let token = "keel & float 100% + more=ü";
    b.kill_server();
    b.restart_server_with_token(token);
    b.open("/project/keel-bracket").await;
    b.fill("input[name=token]", "a wrong guess").await;
    b.until("the guess is refused", || async {
        b.seen("[role=alert]", "not the access token").await
    })
    .await;
    assert!(!b.present(".header").await);
    b.fill("input[name=token]", token).await;
    b.until("the projects are there", || async { b.seen(".card", "Keel bracket").await }).await;
    // Another tab needs no token, and its work goes on.
    b.new_tab().await;
    b.open("/project/keel-bracket").await;
    b.painted("draft").await;
    b.open("/").await;
    b.click_text("button", "Log out").await;
    b.until("the token is asked", || async { b.present("input[name=token]").await }).await;
    b.open("/project/keel-bracket").await;
    b.until("it is asked everywhere", || async { b.present("input[name=token]").await }).await;
}
