//! Mistakes in the inventory, as the program says them.

use crate::world::*;

#[test]
fn a_mistake_is_shown_with_its_line_and_nothing_is_done() {
    let world = World::new();
    world.write_inventory(|text| text.replace("names = [", "nmaes = ["));
    let said = world.place.run(&["keep"]);
    let path = world.place.path("eskort.toml").display().to_string();
    let wanted = format!(
        "error: the inventory has 1 mistake; nothing was done\n\n   in {path}:24:1\n\
         24 | nmaes = [\"lampholm.example\", \"www.lampholm.example\"]\n   | ^^^^^\n   \
         unknown key `nmaes` in [certificate.website]\n   hint: did you mean `names`?\n"
    );
    assert_eq!((said.code, said.out.as_str(), said.err.as_str()), (Some(2), "", wanted.as_str()));
    assert!(!world.place.path("state").exists());
}

#[test]
fn all_mistakes_are_named_at_once() {
    let world = World::new();
    world.write_inventory(|text| {
        text.replace(
            "\"www.lampholm.example\"]",
            "\"*.lampholm.example\", \"lampholm.example\", \"https://lamp.example/\"]",
        )
        .replace("server = \"front\"", "server = \"fornt\"")
        .replace("[proof.pages]", "[proof.pages]\nfolders = \"www\"")
    });
    world.place.run(&["list"]).check(
        2,
        &[
            "5 mistakes",
            "unknown key `folders` in [proof.pages] hint: did you mean `folder`?",
            "`*.lampholm.example` is a wildcard, and `http-folder` cannot prove a wildcard",
            "`lampholm.example` is listed twice",
            "write just the name: \"lamp.example\"",
            "the inventory has no [server.fornt] hint: did you mean `front`?",
        ],
    );
}

#[test]
fn text_that_is_no_toml_and_bytes_that_are_no_text_are_refused() {
    let place = Place::new();
    place.write("eskort.toml", "[certificate.website\n");
    place.run(&["keep"]).check(2, &["this is not TOML", "eskort.toml:1:"]);
    std::fs::write(place.path("eskort.toml"), [0xff, 0xfe, 0x00, b'=', b'\n']).unwrap();
    place.run(&["keep"]).check(2, &["this is not TOML"]);
    place.write("eskort.toml", "\u{feff}# an editor's mark at the beginning does no harm\r\n");
    place.run(&["keep"]).check(0, &["there is nothing to keep"]);
}

#[test]
fn a_mistake_in_a_long_line_is_shown_where_it_is() {
    let place = Place::new();
    let names: Vec<String> = (0..150).map(|n| format!("\"room{n}.lampholm.example\"")).collect();
    place.write("eskort.toml", &format!("[certificate.x]\nnames = [{}, \"a b\"]\n", names.join(", ")));
    let said = place.run(&["list"]);
    said.check(2, &["room149.lampholm.example", "a b"]);
    assert!(said.err.lines().all(|line| line.chars().count() <= 110), "{said}");
    let lines: Vec<&str> = said.err.lines().collect();
    let at = lines.iter().position(|l| l.contains("\"a b\"") && l.contains('|')).unwrap();
    let column = lines[at + 1].chars().position(|c| c == '^').unwrap();
    assert!(lines[at].chars().skip(column).collect::<String>().starts_with("\"a b\""), "{said}");
}
