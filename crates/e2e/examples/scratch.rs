#[path = "../tests/browser/mod.rs"]
#[allow(dead_code)]
mod browser;
use browser::Bench;
use std::path::PathBuf;
#[tokio::main(flavor = "current_thread")]
async fn main() {
    let b = Bench::start().await;
    let text = std::fs::read_to_string(std::env::args().nth(1).unwrap()).unwrap();
    for l in text.lines().filter(|l| !l.trim().is_empty() && !l.starts_with('#')) {
        let (cmd, rest) = l.split_once(' ').unwrap_or((l, ""));
        let p: Vec<&str> = rest.split(" | ").collect();
        eprintln!("> {l}");
        match cmd {
            "open" => b.open(rest).await,
            "step" => b.step(rest).await,
            "text" => b.click_text(p[0], p[1]).await,
            "click" => b.click(rest).await,
            "fill" => b.fill(p[0], p[1]).await,
            "paint" => b.painted(rest).await,
            "saved" => b.saved().await,
            "seen" => b.until(rest, || async { b.seen(p[0], p[1]).await }).await,
            "at" => b.click_in(p[0], p[1].parse().unwrap(), p[2].parse().unwrap()).await,
            "drag" => {
                b.drag(p[0], (p[1].parse().unwrap(), p[2].parse().unwrap()), (p[3].parse().unwrap(), p[4].parse().unwrap())).await
            }
            "js" => eprintln!("{}", b.js(rest).await),
            "drop" => {
                let f = PathBuf::from(rest);
                b.drop_file(f.file_name().unwrap().to_str().unwrap(), &std::fs::read(&f).unwrap()).await
            }
            "shot" => b.screenshot(&PathBuf::from(rest)).await,
            _ => panic!("{l}"),
        }
    }
    b.end().await;
}
