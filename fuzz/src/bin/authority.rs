//! Fuzzes what an authority may answer.
#![no_main]

use eskort_acme::{
    Response, parse_account, parse_account_state, parse_authorization, parse_certificate, parse_directory, parse_order,
    parse_orders, parse_renewal_info,
};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let (status, body) = match bytes {
        [first, rest @ ..] => (if first % 2 == 0 { 200 } else { 400 }, rest),
        [] => return,
    };
    let answer = Response { status, body: body.to_vec(), ..Response::default() };
    let said = [
        parse_directory(&answer).err(),
        parse_account(&answer).err(),
        parse_order(&answer).err(),
        parse_authorization(&answer).err(),
        parse_certificate(&answer).err(),
        parse_account_state(&answer).err(),
        parse_orders(&answer).err(),
        parse_renewal_info(&answer).err(),
    ];
    for error in said.into_iter().flatten() {
        let text = error.to_string();
        assert!(!text.chars().any(|c| c.is_control() && c != '\n'), "{text:?}");
    }
});
