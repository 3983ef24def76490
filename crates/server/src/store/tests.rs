use super::*;
use ulmix_core::pipeline::Stage;

#[test]
fn what_runs_taught_outlives_the_server() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("projects.sqlite");
    let pace = |stage, ratio| Pace { stage, ratio, runs: 3 };
    let learned = Paces(vec![pace(Stage::Surface, 1.7), pace(Stage::Report, 0.4)]);
    {
        let store = Store::open(&path).unwrap();
        assert_eq!(store.paces().unwrap(), Paces::default());
        store.set_paces(&Paces(vec![pace(Stage::Surface, 9.0)])).unwrap();
        store.set_paces(&learned).unwrap();
    }
    let mut found = Store::open(&path).unwrap().paces().unwrap();
    found.0.sort_by(|a, b| b.ratio.total_cmp(&a.ratio));
    assert_eq!(found, learned);
    // A stage of another version is passed over.
    let store = Store::open(&path).unwrap();
    store.db().execute("INSERT INTO paces VALUES ('polishing', 1.0, 1)", []).unwrap();
    assert_eq!(store.paces().unwrap().0.len(), 2);
}
