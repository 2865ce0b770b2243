//! `fairtrial report`: read as a file, and in a real browser.

use std::fs;

use crate::browser::Browser;
use crate::needs;
use crate::regatta::{TASKS, sailed};

#[test]
fn the_page_stands_alone_and_holds_no_markup_of_a_candidate() {
    let env = sailed();
    let ran = env.run(&["report", "record", "-o", "page.html"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, "report: page.html\n"));
    let page = fs::read_to_string(env.path("page.html")).unwrap();
    for outside in ["http://", "https://", "src=", "@import", "url("] {
        let own = page.replace("http://www.w3.org/2000/svg", "");
        assert!(!own.contains(outside), "{outside}");
    }
    assert!(!page.contains("alert(1)"), "what a candidate wrote is in the page as it is");
    assert_eq!(page.matches("<script type=\"text/plain\"").count(), TASKS);
    // Sealed inputs are in it only for those who ask, and compressed: so their page is longer.
    env.run(&["report", "record", "-o", "open.html", "--unseal"]);
    let open = fs::read_to_string(env.path("open.html")).unwrap();
    assert!(open.len() > page.len(), "{} and {}", open.len(), page.len());
}

#[test]
fn every_format_says_the_same() {
    let env = sailed();
    let text = |file: &str| {
        let ran = env.run(&["report", "record", "-o", file]);
        assert_eq!(ran.code, 0, "{}", ran.err);
        fs::read_to_string(env.path(file)).unwrap()
    };
    let csv = text("matrix.csv");
    assert!(csv.starts_with("task,solved_rate,tern,auk,gull\n"), "{csv}");
    assert!(csv.contains("leg-1,0.6666666666666666,2/2,2/2,0/2\n"), "{csv}");
    let markdown = text("report.md");
    assert!(markdown.contains("| 1–2 | tern | 16/16 | 100.0 % |"), "{markdown}");
    let json: serde_json::Value = serde_json::from_str(&text("report.json")).unwrap();
    assert_eq!(json["matrix"].as_array().unwrap().len(), TASKS);
    let xml = text("junit.xml");
    assert!(xml.contains("<testsuite name=\"auk\" tests=\"16\" failures=\"8\""), "{xml}");
    let ran = env.run(&["report", "record", "-o", "report.doc"]);
    assert_eq!(ran.code, 2);
    assert!(ran.err.contains("`report.doc` does not say what to write"), "{}", ran.err);
    let ran = env.run(&["report", "record", "--plots", "plots"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let svg = fs::read_to_string(env.path("plots/ranking.svg")).unwrap();
    assert!(svg.starts_with("<svg") && svg.contains(">tern</text>"), "{svg}");
    let ran = env.run(&["report", "record", "--plots", "plots", "--png"]);
    match ran.code {
        0 => assert!(fs::read(env.path("plots/ranking.png")).unwrap().starts_with(b"\x89PNG")),
        code => assert!(code == 3 && ran.err.contains("no font"), "{}", ran.err),
    }
}

#[test]
fn the_page_is_used_by_keyboard_alone_and_shows_what_stands_behind_a_cell() {
    if !needs::there(&["chromium", "mkfifo"]) {
        return;
    }
    let env = sailed();
    assert_eq!(env.run(&["report", "record", "-o", "page.html", "--unseal"]).code, 0);
    let address = format!("file://{}", env.path("page.html").display());
    fs::create_dir(env.path("browser")).unwrap();
    let mut page = Browser::open(&env.path("browser"), &address, (1280, 800));
    assert_eq!(page.value("document.querySelectorAll('figure svg').length"), 3);
    // Filters.
    page.value("document.getElementById('find').focus()");
    for letter in "leg-8".chars() {
        page.press(&letter.to_string());
    }
    let shown =
        "[...document.querySelectorAll('.matrix tbody tr')].filter(it => !it.hidden).length";
    assert_eq!(page.value(shown), 1);
    assert_eq!(page.value("document.getElementById('count').textContent"), "1 of 8 tasks");
    // From the filters on to the first cell, along the row to the last candidate, and into it.
    let in_cell = "document.activeElement.matches('.matrix button')";
    for _ in 0..8 {
        if page.value(in_cell) == true {
            break;
        }
        page.press("Tab");
    }
    assert_eq!(page.value(in_cell), true);
    page.press("ArrowRight");
    page.press("ArrowRight");
    page.press("Enter");
    page.until("document.querySelector('#cell-body h3') !== null");
    assert_eq!(page.value("document.getElementById('cell-title').textContent"), "leg-8, gull");
    let text = page.value("document.getElementById('cell-body').textContent");
    let text = text.as_str().unwrap();
    // What the candidate wrote is there as text, and nothing of it became a part of the page.
    assert!(text.contains("</script><script>alert(1)</script><img src=x>"), "{text}");
    assert_eq!(
        page.value("document.querySelectorAll('#cell-body img, #cell-body script').length"),
        0
    );
    assert_eq!(page.value("location.hash"), "#task=leg-8&candidate=gull");
    page.press("ArrowLeft");
    page.until("document.getElementById('cell-title').textContent === 'leg-8, auk'");
    page.press("Escape");
    page.until("!document.getElementById('cell').open");
    // The browser gives the focus back first, the page then moves it on.
    page.until("document.activeElement.ariaLabel === 'leg-8, auk: 0 of 2 solved'");
    // Sorting by a column.
    page.value("document.querySelectorAll('.sortable th button')[1].click()");
    let first = "document.querySelector('.sortable tbody tr').cells[1].textContent";
    assert_eq!(page.value(first), "auk");
    // Nothing is wider than a phone but what scrolls by itself.
    let phone =
        serde_json::json!({"width": 390, "height": 844, "deviceScaleFactor": 1, "mobile": true});
    page.call("Emulation.setDeviceMetricsOverride", phone);
    assert_eq!(page.value("document.documentElement.scrollWidth <= 390"), true);
}
