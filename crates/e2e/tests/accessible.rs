//! The app without a mouse, and for whoever does not see it.

use ulmix_e2e::browser::Bench;

/// Every main screen in light and dark colours: no rule of accessibility is broken.
#[tokio::test]
async fn no_screen_breaks_a_rule_of_accessibility() {
    let b = Bench::start().await;
    let mut broken = Vec::new();
    for colours in ["Dark colours", "Light colours"] {
        b.open("/").await;
        b.until("parts are shown", || async { b.seen(".beginning", "Keel bracket").await }).await;
        b.click(&format!("[aria-label='{colours}']")).await;
        let look = |screen: &str, rules: Vec<String>| {
            let line = |rule: String| format!("{screen}, after {colours}: {rule}");
            rules.into_iter().map(line).collect::<Vec<_>>()
        };
        broken.extend(look("start", b.broken_rules().await));
        b.open("/project/keel-bracket").await;
        b.painted("draft").await;
        b.kinds_drawn().await;
        broken.extend(look("structure", b.broken_rules().await));
        b.open_kinds().await;
        broken.extend(look("kinds", b.broken_rules().await));
        b.close_kinds().await;
        for step in ["Part", "Zones", "Thicken", "Mesh", "Checks", "Hand-off"] {
            b.step(step).await;
            broken.extend(look(step, b.broken_rules().await));
        }
        // A grading with its curve, which is taken back.
        b.step("Grading").await;
        b.click_text("button", "Grade the wall thickness").await;
        b.click_text(".ant-dropdown-menu-title-content", "Along a direction").await;
        b.saved().await;
        b.until("the part is painted", || async { b.seen(".legend", "a line every").await }).await;
        b.open_group("Curve").await;
        broken.extend(look("Grading", b.broken_rules().await));
        b.click("[aria-label=Undo]").await;
        b.saved().await;
        b.step("Hand-off").await;
        b.click(".helpbutton").await;
        b.until("the guide is open", || async { b.seen(".guidepage h1", "Hand-off").await }).await;
        broken.extend(look("guide", b.broken_rules().await));
    }
    assert!(broken.is_empty(), "{}", broken.join("\n"));
}

/// A recipe is changed, looked at and undone by keys alone, and what happens is told in words.
#[tokio::test]
async fn the_bench_is_worked_by_keys_and_told_in_words() {
    let b = Bench::start().await;
    b.open("/project/keel-bracket").await;
    b.painted("draft").await;
    b.until("the draft is told", || async {
        b.seen("[data-testid=told]", "Draft ready").await
            && b.seen("[data-testid=told]", "g,").await
    })
    .await;
    // Onto the step Thicken: its line keeps the focus when it opens, and its values come next.
    let title = "[...document.querySelectorAll('.step .title')].find(t => \
         t.querySelector('h2').textContent === 'Thicken')";
    b.js(&format!("{title}.focus(); return true")).await;
    b.key("Enter").await;
    b.until("the step is open", || async { b.seen(".step.open h2", "Thicken").await }).await;
    assert_eq!(b.js(&format!("return document.activeElement === {title}")).await, true);
    assert_eq!(b.js(&format!("return {title}.getAttribute('aria-expanded')")).await, "true");
    b.key("Tab").await;
    assert_eq!(b.js("return document.activeElement.className").await, "helpbutton");
    b.key("Enter").await;
    b.until("its page of the guide is open", || async { b.seen(".guidepage h1", "Thicken").await })
        .await;
    b.key("Escape").await;
    b.until("the focus is back", || async {
        b.js("return document.activeElement.className").await == "helpbutton"
    })
    .await;
    // The thickness grows by an arrow key, is saved, and comes back.
    let value = "return document.querySelector('.step.open [role=slider]').ariaValueNow";
    let before = b.js(value).await;
    b.js("document.querySelector('.step.open [role=slider]').focus(); return true").await;
    b.key("ArrowRight").await;
    b.until("the change is saved", || async {
        b.js("return document.querySelector('[aria-label=Undo]').disabled").await == false
    })
    .await;
    b.saved().await;
    b.painted("draft").await;
    assert_ne!(b.js(value).await, before);
    b.js("document.activeElement.blur(); return true").await;
    b.key("c").await;
    b.until("it is cut", || async { b.present("[aria-label='Cut position']").await }).await;
    b.key("?").await;
    b.until("the keys are listed", || async { b.seen(".ant-modal", "Undo, redo").await }).await;
    b.key("Escape").await;
}
