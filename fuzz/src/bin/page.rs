//! Fuzzes the reading of what a page loads.
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let at = url::Url::parse("https://lampholm.example/oil/").expect("an address");
    let found = eskort_pages::loads(bytes, &at);
    assert!(found.mixed.iter().all(|load| load.url.starts_with("http://")));
});
