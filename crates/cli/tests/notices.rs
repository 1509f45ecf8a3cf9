//! People are told what is new: by a request that is signed, by a program, in the log, and by mail through real Postfix and Dovecot.

use crate::world::*;
use eskort_practice::{Board, Fault, Resource};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixDatagram;

/// A world with a second certificate, and those who are told.
fn world_telling(sections: &str) -> World {
    let world = World::new();
    let more = "\n[certificate.mail]\nnames = [\"www.lampholm.example\"]\n\n";
    world.write_inventory(|text| format!("{text}{more}{sections}"));
    world
}

#[test]
fn each_piece_of_news_is_told_once_and_what_was_not_taken_is_told_later() {
    let board = runtime_board();
    let board = &board.1;
    let sections = format!(
        "[notify.board]\nkind = \"webhook\"\naddress = \"{}\"\nsecret-file = \"board.secret\"\nroots = \"board.pem\"\n\n\
         [notify.told]\nkind = \"program\"\nrun = [\"sh\", \"-c\", \"cat > told.json\"]\nnews = [\"recovered\"]\n\n\
         [notify.log]\nkind = \"log\"\nsocket = \"log.socket\"\n",
        board.address()
    );
    let world = world_telling(&sections);
    world.place.write("board.pem", board.root_pem());
    world.place.write("board.secret", "a lamp in the window\n");
    let log = UnixDatagram::bind(world.place.path("log.socket")).unwrap();
    log.set_nonblocking(true).unwrap();
    let logged = || {
        let (mut said, mut buffer) = (Vec::new(), [0; 8192]);
        while let Ok(read) = log.recv(&mut buffer) {
            said.push(String::from_utf8_lossy(&buffer[..read]).into_owned());
        }
        said
    };
    world.place.run(&["notify", "show"]).check(0, &["board", "webhook", "nothing waits", "this machine's syslog"]);
    world.place.run(&["notify", "test", "board", "log"]).check(0, &["`board`: delivered to https://127.0.0.1"]);
    assert_eq!(board.messages()[0]["test"], true);
    assert!(logged()[0].contains(": a test"));
    world.place.run(&["notify", "test", "bord"]).check(2, &["has no [notify.bord]", "board, log and told"]);

    // All is well: nobody is told anything.
    world.on_day(0, &["keep"]).check(0, &["installed and checked live"]);
    assert_eq!((board.messages().len(), logged().len()), (1, 0));
    // The first one fails, the other is not even tried at an authority that is out of reach. The message is refused at first, and told by
    // the next run.
    world.authority.misbehave(Resource::NewOrder, Fault::Status(503), 999);
    board.refuse(1);
    world.on_day(62, &["keep"]).check(1, &["news could not be delivered to `board`", "the board is being painted"]);
    world.on_day(62, &["notify", "show"]).check(4, &["1 piece of news not delivered", "the board is being painted"]);
    for day in [63, 64] {
        world.on_day(day, &["keep"]).check(1, &["503"]);
    }
    let messages = board.messages();
    assert_eq!(messages.len(), 2, "{messages:?}");
    let news = messages[1]["news"].as_array().unwrap();
    let kinds: Vec<&str> = news.iter().map(|one| one["what"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["failed"], "{news:?}");
    assert_eq!(news[0]["failing"]["fault"], "the authority", "{news:?}");
    assert!(messages[1]["text"].as_str().unwrap().contains("` says more"), "{news:?}");
    assert_eq!(logged().len(), 1);
    // Little time is left; then it is well again.
    world.on_day(82, &["keep"]).check(1, &["503"]);
    let message = &board.messages()[2];
    let kinds = message["news"].as_array().unwrap().iter().map(|one| one["what"].as_str().unwrap());
    assert_eq!(kinds.collect::<Vec<_>>(), ["danger", "danger"], "{message}");
    assert!(message["subject"].as_str().unwrap().ends_with("and 1 other piece of news"), "{message}");
    assert!(!world.place.path("told.json").exists());
    world.authority.behave();
    world.on_day(83, &["keep", "--only", "website"]).check(0, &["generation 2", "`told` was told: 1 piece of news"]);
    let told = world.place.read("told.json");
    assert!(
        told.contains("the certificate `website` is well again") && told.contains("\"what\":\"recovered\""),
        "{told}"
    );
    world.on_day(84, &["keep"]).check(0, &["generation 2"]);
    assert_eq!(board.messages().len(), 5);
    world.on_day(85, &["keep"]).check(0, &["nothing to do"]);
    assert_eq!(board.messages().len(), 5);
    // A wrong secret is found by a test.
    world.place.write("board.secret", "another");
    world.place.run(&["notify", "test", "board"]).check(1, &["401", "not signed with the secret"]);
}

fn runtime_board() -> (tokio::runtime::Runtime, Board) {
    let runtime = runtime();
    let board = runtime.block_on(Board::start("a lamp in the window")).unwrap();
    (runtime, board)
}

/// Starts Postfix, which takes mail for the trust from who logs in, and Dovecot, which knows them.
fn mail_server(place: &Place, starttls: u16, tls: u16) -> [Process; 2] {
    let dir = place.dir.path().display();
    let user = nix::unistd::User::from_name("postfix").unwrap().expect("Debian's package postfix has its user");
    for name in ["postfix", "queue", "data", "box", "run"] {
        std::fs::create_dir(place.path(name)).unwrap();
    }
    for name in ["data", "box"] {
        std::os::unix::fs::chown(place.path(name), Some(user.uid.as_raw()), Some(user.gid.as_raw())).unwrap();
    }
    let (uid, gid) = (user.uid, user.gid);
    place.write(
        "dovecot.conf",
        &format!(
            "protocols =\nlisten = 127.0.0.1\nbase_dir = {dir}/run\nstate_dir = {dir}/run\nlog_path = {dir}/dovecot.log\nssl = no\n\
             auth_mechanisms = plain login\npassdb {{\n  driver = static\n  args = user=eskort password=window\n}}\n\
             service auth {{\n  unix_listener {dir}/queue/auth {{\n    mode = 0666\n  }}\n}}\n"
        ),
    );
    place.write(
        "postfix/main.cf",
        &format!(
            "compatibility_level = 3.6\nqueue_directory = {dir}/queue\ndata_directory = {dir}/data\nmail_owner = postfix\n\
             inet_interfaces = 127.0.0.1\nmyhostname = mail.lampholm.example\nmaillog_file = {dir}/postfix.log\nmaillog_file_prefixes = /tmp\n\
             smtpd_tls_chain_files = {dir}/leaf.key, {dir}/leaf.pem\nsmtpd_tls_security_level = encrypt\nsmtpd_sasl_auth_enable = yes\n\
             smtpd_sasl_type = dovecot\nsmtpd_sasl_path = auth\nsmtpd_recipient_restrictions = permit_sasl_authenticated, reject\n\
             mydestination =\nalias_maps =\nvirtual_mailbox_domains = lampholm.example\nvirtual_mailbox_base = {dir}/box\n\
             virtual_mailbox_maps = static:keeper\nvirtual_minimum_uid = 1\nvirtual_uid_maps = static:{uid}\nvirtual_gid_maps = static:{gid}\n"
        ),
    );
    place.write(
        "postfix/master.cf",
        &format!(
            "127.0.0.1:{starttls} inet n - n - - smtpd\n127.0.0.1:{tls} inet n - n - - smtpd\n  -o smtpd_tls_wrappermode=yes\n\
             postlog unix-dgram n - n - 1 postlogd\nanvil unix - - n - 1 anvil\ntlsmgr unix - - n 1000? 1 tlsmgr\n\
             rewrite unix - - n - - trivial-rewrite\ncleanup unix n - n - 0 cleanup\nqmgr unix n - n 300 1 qmgr\n\
             bounce unix - - n - 0 bounce\ndefer unix - - n - 0 bounce\nvirtual unix - n n - - virtual\n\
             proxymap unix - - n - - proxymap\nproxywrite unix - - n - 1 proxymap\n"
        ),
    );
    let start = |command: &str| {
        let mut words = command.split(' ');
        let mut program = std::process::Command::new(words.next().unwrap());
        program.args(words).current_dir(place.dir.path());
        program.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
        Process(program.spawn().expect("Debian's packages are installed (scripts/test does it)"))
    };
    let started = [start("dovecot -F -c dovecot.conf"), start(&format!("postfix -c {dir}/postfix start-fg"))];
    until("dovecot listens", || place.path("queue/auth").exists());
    [starttls, tls].iter().for_each(|port| await_port(*port, "postfix"));
    started
}

/// Returns the mail that has arrived.
fn arrived(place: &Place) -> String {
    std::fs::read_to_string(place.path("box/keeper")).unwrap_or_default()
}

#[test]
fn news_comes_by_mail() {
    if done_by_root("notices::news_comes_by_mail") {
        return;
    }
    let world = World::new();
    let place = &world.place;
    std::fs::set_permissions(place.dir.path(), PermissionsExt::from_mode(0o755)).unwrap();
    place.sign_itself("localhost", false);
    let (starttls, tls) = (free_port(), free_port());
    let _servers = mail_server(place, starttls, tls);
    place.write("mail.password", "window\n");
    let section = |name: &str, port: u16, tls: &str| {
        format!(
            "[notify.{name}]\nkind = \"mail\"\nto = [\"keeper@lampholm.example\"]\nfrom = \"eskort@lampholm.example\"\n\
             server = \"localhost:{port}\"\ntls = \"{tls}\"\nuser = \"eskort\"\npassword-file = \"mail.password\"\nroots = \"leaf.pem\"\n\n"
        )
    };
    let sections = section("first", tls, "tls") + &section("second", starttls, "starttls");
    world.write_inventory(|text| format!("{text}\n{sections}"));
    let log = || std::fs::read_to_string(place.path("postfix.log")).unwrap_or_default();
    let said = place.run(&["notify", "test"]);
    assert_eq!(said.code, Some(0), "{said}\n{}", log());
    until("both have arrived", || arrived(place).matches("Subject: Eskort on").count() == 2);
    let mail = arrived(place);
    for part in [
        "From: eskort@lampholm.example",
        "Auto-Submitted: auto-generated",
        "This is a test: news of certificates arrives",
    ] {
        assert!(mail.contains(part), "{mail}");
    }
    // A wrong password is told; the news waits, and arrives once.
    place.write("mail.password", "door\n");
    world.authority.misbehave(Resource::NewOrder, Fault::Status(503), 999);
    world.on_day(0, &["keep"]).check(1, &["news could not be delivered to `first`", "535"]);
    place.write("mail.password", "window\n");
    world.on_day(1, &["keep"]).check(1, &["`first` was told: 1 piece of news", "`second` was told"]);
    world.on_day(2, &["keep"]).check(1, &["503"]);
    until("both have arrived", || arrived(place).matches("Subject: Eskort on").count() == 4);
    let mail = arrived(place);
    assert_eq!(mail.matches("could not be obtained.").count(), 2, "{mail}");
    // No mail goes where the certificate is not the server's, nor in the clear.
    world.write_inventory(|text| format!("{text}\n{}", sections.replace("roots = \"leaf.pem\"\n", "")));
    place
        .run(&["notify", "test"])
        .check(1, &["the mail server localhost:", "does not take it", "certificate", "`roots`"]);
    world.write_inventory(|text| format!("{text}\n{}", sections.replace("\"starttls\"", "\"none\"")));
    place.run(&["notify", "test"]).check(2, &["a password is not sent over a connection without TLS"]);
}
