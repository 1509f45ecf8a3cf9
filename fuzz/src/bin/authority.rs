//! Fuzzes what an authority may answer.
#![no_main]

use eskort_acme::{Answer, read_account, read_authorization, read_certificate, read_directory, read_order};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let (status, body) = match bytes {
        [first, rest @ ..] => (if first % 2 == 0 { 200 } else { 400 }, rest),
        [] => return,
    };
    let answer = Answer { status, body: body.to_vec(), ..Answer::default() };
    let said = [
        read_directory(&answer).err(),
        read_account(&answer).err(),
        read_order(&answer).err(),
        read_authorization(&answer).err(),
        read_certificate(&answer).err(),
    ];
    for error in said.into_iter().flatten() {
        let text = error.to_string();
        assert!(!text.chars().any(|c| c.is_control() && c != '\n'), "{text:?}");
    }
});
