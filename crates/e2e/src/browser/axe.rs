//! Rules of accessibility, held against the page as it stands.

use super::Bench;
use serde_json::Value;

/// The checker, as npm brought it.
const AXE: &str =
    concat!(env!("CARGO_MANIFEST_DIR"), "/../../web/node_modules/axe-core/axe.min.js");

impl Bench {
    /// What breaks a rule of WCAG 2.2 up to level AA or a best practice: rule, what it says, and
    /// the elements, one line each. Empty where nothing does. Colours that still fade from one to
    /// another are waited for: halfway between two they are no colours of the screen.
    pub async fn broken_rules(&self) -> Vec<String> {
        if self.js("return typeof axe").await == "undefined" {
            let source = std::fs::read_to_string(AXE).expect("axe-core: npm ci in web");
            self.js(&format!("{source}; window.axe = axe; return true")).await;
        }
        self.until("no colour fades", || async {
            let fading = "document.getAnimations().some(a => \
                a.playState === 'running' && a.effect.getComputedTiming().endTime < Infinity)";
            self.js(&format!("return {fading}")).await == false
        })
        .await;
        let found = self
            .js("return axe.run(document, { resultTypes: ['violations'] }).then(r => \
                 r.violations.map(v => [v.id, v.help, v.nodes.map(n => n.target.join(' ') + ' ' + \
                 (n.any[0]?.message ?? '')).slice(0, 4).join(' | ')].join(': ')))")
            .await;
        let line = |v: &Value| v.as_str().unwrap_or_default().to_owned();
        found.as_array().expect("a list of rules").iter().map(line).collect()
    }
}
