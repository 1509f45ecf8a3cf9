use super::*;
use crate::address::Left;
use std::collections::BTreeMap;

/// Gives a dump in pieces of a size.
struct Pieces<'a>(&'a [u8], usize);

impl Read for Pieces<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let (piece, rest) = self.0.split_at(self.0.len().min(self.1).min(buffer.len()));
        buffer[..piece.len()].copy_from_slice(piece);
        self.0 = rest;
        Ok(piece.len())
    }
}

fn mend(dump: &str, size: usize) -> (String, Tally) {
    let hosts = Hosts::new(["lampholm.example".to_owned()]);
    let mut mender = DumpMender::new(&hosts);
    let mut out = Vec::new();
    mender.pass(&mut Pieces(dump.as_bytes(), size), &mut out).unwrap();
    (String::from_utf8(out).unwrap(), mender.tally)
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
    fn what_has_no_address_comes_back_as_it_was(dump in "[a-z'\"`\\\\$;,()\n -]{0,80}", size in 1..9_usize) {
        let dump = format!("INSERT INTO t VALUES ('{dump}");
        proptest::prop_assert_eq!(mend(&dump, size).0, dump);
    }
}
