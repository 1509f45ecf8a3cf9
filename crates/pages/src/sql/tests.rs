use super::*;
use crate::address::Left;
use std::collections::BTreeMap;

/// Mends a dump that is read in pieces of a size, and gone through in stretches of another.
fn mend_cut(dump: &str, piece: usize, stretch: u64) -> (String, Tally) {
    let hosts = Hosts::new(["lampholm.example".to_owned()]);
    let mut mender = DumpMender { cut: Cut { piece, stretch }, ..DumpMender::new(&hosts) };
    let (mut out, read) = (Vec::new(), reader(dump.as_bytes()));
    mender.pass(&read, Some(&mut out)).unwrap();
    let mut found = DumpMender { cut: Cut { piece, stretch }, ..DumpMender::new(&hosts) };
    found.pass(&read, None).unwrap();
    assert_eq!(found.tally, mender.tally, "whether it is written or not");
    (String::from_utf8(out).unwrap(), mender.tally)
}

fn reader(dump: &[u8]) -> impl Fn(&mut [u8], u64) -> io::Result<usize> {
    |buffer, at| {
        let rest = &dump[dump.len().min(usize::try_from(at).unwrap())..];
        let count = rest.len().min(buffer.len());
        buffer[..count].copy_from_slice(&rest[..count]);
        Ok(count)
    }
}

fn mend(dump: &str, piece: usize) -> (String, Tally) {
    mend_cut(dump, piece, CUT.stretch)
}

const OLD: &str = "http://lampholm.example/";
const NEW: &str = "https://lampholm.example/";

fn php(text: &str) -> String {
    format!("s:{}:\"{text}\";", text.len())
}

/// Dumps as their programs write them, with what changes and what does not.
fn dumps(address: &str) -> [String; 3] {
    let escaped = php(address).replace('"', "\\\"");
    let mysql = format!(
        "-- MySQL dump 10.19\n/*!40101 SET NAMES utf8mb4 */; # http://lampholm.example\nCREATE TABLE `posts` (\n  `id` int(11) NOT NULL DEFAULT '0',\n  \
         `url` varchar(24) DEFAULT NULL,\n  `body` longtext,\n  `raw` longblob,\n  PRIMARY KEY (`id`)\n) ENGINE=InnoDB COMMENT='it''s; http://lampholm.example';\n\
         INSERT INTO `posts` VALUES (1,'http://lampholm.example/','a {address} \\'b\\'\\n(,;','{OLD}'),(2,NULL,'{escaped}',0xff);\n\
         INSERT INTO `posts` (`raw`, `body`) VALUES (_binary '{OLD}','x'),('{OLD}','{{\\\"a\\\":\\\"{address}\\\"}}');\n"
    );
    let copied = php(address);
    let postgres = format!(
        "--\n-- PostgreSQL database dump\n--\nSET standard_conforming_strings = on;\nCREATE FUNCTION f() AS $x$ SELECT '{OLD}'; $x$;\n\
         CREATE TABLE public.posts (\n    id integer NOT NULL,\n    url character varying(24),\n    body text,\n    raw bytea\n);\n\
         COPY public.posts (id, url, body, raw) FROM stdin;\n1\t{OLD}\ta\\t{address}\\nb\t{OLD}\n2\t\\N\t{copied}\t\\\\x00\n\\.\n\n\
         INSERT INTO public.posts VALUES (3, 'x', 'it''s \\ {address}', '{OLD}');\nINSERT INTO public.posts (body) VALUES (E'it\\'s {address}');\n"
    );
    let sqlite = format!(
        "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\nCREATE TABLE posts(id INTEGER, body TEXT, raw BLOB);\n\
         INSERT INTO posts VALUES(1,'{address} ''quoted'' \\',X'00');\nCOMMIT;\n"
    );
    [mysql, postgres, sqlite]
}

#[test]
fn only_texts_that_have_room_change_however_the_dump_is_cut() {
    for (n, (old, wanted)) in dumps(OLD).into_iter().zip(dumps(NEW)).enumerate() {
        for size in [1, 7, 4096] {
            let (mended, tally) = mend(&old, size);
            assert_eq!(mended, wanted, "{n}, pieces of {size}");
            assert_eq!(tally.changed, [3, 4, 1][n], "{n}");
            let too_long = BTreeMap::from([(Left::TooLong, 1)]);
            assert_eq!(tally.left, if n < 2 { too_long } else { BTreeMap::new() }, "{n}");
        }
        assert_eq!(mend(&wanted, 4096).0, wanted, "{n}: a second time changes nothing");
    }
}

#[test]
fn stretches_side_by_side_come_to_the_same() {
    for (old, wanted) in dumps(OLD).into_iter().zip(dumps(NEW)) {
        for stretch in [1, 20, 90, 300, 700] {
            assert_eq!(mend_cut(&old, 16, stretch).0, wanted, "stretches of {stretch}");
        }
    }
    // The second stretch begins at the second statement, and both are done at once.
    let rows = |n: usize| format!("INSERT INTO t VALUES ({n},'{OLD}');\n");
    let dump = rows(1) + &rows(2) + &rows(3);
    let hosts = Hosts::new(["lampholm.example".to_owned()]);
    let read = reader(dump.as_bytes());
    let begun = || DumpMender {
        cut: Cut { piece: 16, stretch: 30 },
        dialect: Some(Dialect::Backslashes),
        ..DumpMender::new(&hosts)
    };
    let mut mender = begun();
    let end = mender.pair(&read, 0, &mut None).unwrap().end;
    assert!(end as usize > rows(1).len() + 10, "{end}");
    assert_eq!(mender.tally.changed, 2);
    // What only looks like a statement is in a text: the first stretch alone counts.
    let text = format!("INSERT INTO t VALUES (1,'a letter: ;\nINSERT INTO t VALUES (2, {OLD});\n');\n");
    let mut mender = begun();
    let end = mender.pair(&reader(text.as_bytes()), 0, &mut None).unwrap().end;
    assert!(end as usize >= text.len() - 3 && mender.tally.changed == 1, "{end}: {:?}", mender.tally);
}

#[test]
fn a_literal_that_is_longer_than_what_is_read_at_once_is_taken_whole() {
    let dump = |address: &str| {
        let long = format!("{} {address} ", "oil for the lamp".repeat(30_000)).repeat(3);
        format!("INSERT INTO `posts` VALUES (1,'{long}'),(2,'{address}'),(3,'{long}');\n-- {OLD}\n")
    };
    for size in [7_001, 100_000, 10_000_000] {
        let (mended, tally) = mend(&dump(OLD), size);
        assert!(mended == dump(NEW), "pieces of {size}");
        assert_eq!(tally.changed, 7, "pieces of {size}");
    }
}

#[test]
fn what_has_no_end_is_kept() {
    for dump in [
        "INSERT INTO x VALUES ('http://lampholm.example/",
        "/* no end",
        "`no end",
        "-- http://lampholm.example",
        "CREATE TABLE x (",
        "-",
        "'",
    ] {
        assert_eq!(mend(dump, 3).0, dump);
    }
}

proptest::proptest! {
    #[test]
    fn however_a_dump_is_cut_the_same_comes_of_it(
        picked in proptest::collection::vec(0..12_usize, 1..14),
        piece in 1..40_usize,
        stretch in 1..400_u64,
    ) {
        let known = [
            format!("INSERT INTO `t` VALUES (1,'{OLD}','x'),(2,'{OLD}a','y');\n"),
            format!("INSERT INTO `t` (`b`, `a`) VALUES ('{OLD}','z;\nINSERT INTO `t` VALUES (3,''{OLD}'');\n');\n"),
            "CREATE TABLE `t` (`a` varchar(24), `b` text);\n".to_owned(),
            "CREATE TABLE `t` (`a` text, `b` varchar(24));\n".to_owned(),
            format!("COPY t (a, b) FROM stdin;\n{OLD}\t{OLD}\n{OLD}\t;\nINSERT INTO x\n\\.\n"),
            format!("COPY t (b) FROM stdin;\n{OLD}\n{OLD}\n{OLD}\n\\.\n"),
            format!("-- {OLD} it's;\nINSERT INTO t VALUES ('{OLD}');\n"),
            "/* ;\nINSERT INTO t VALUES ('http://lampholm.example'); */\n".to_owned(),
            format!("UPDATE t SET a = '{OLD}';\n"),
            format!("INSERT INTO t VALUES ('s:24:\\\"{OLD}\\\";',x'00');\n"),
            "INSERT INTO t VALUES ('no end".to_owned(),
            "';\n".to_owned(),
        ];
        let dump: String = picked.into_iter().map(|n| known[n].as_str()).collect();
        let (whole, tally) = mend(&dump, 1 << 16);
        proptest::prop_assert_eq!(mend_cut(&dump, piece, stretch), (whole, tally));
    }

    #[test]
    fn what_has_no_address_comes_back_as_it_was(dump in "[a-z'\"`\\\\$;,()\n -]{0,80}", size in 1..9_usize) {
        let dump = format!("INSERT INTO t VALUES ('{dump}");
        proptest::prop_assert_eq!(mend(&dump, size).0, dump);
    }
}
