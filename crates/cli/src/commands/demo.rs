//! `eskort demo`: the whole journey in a practice world.

mod beginning;
mod office;
mod rating;
mod survey;
mod uploads;

use super::{block_on, check, keep, list};
use crate::args::{DEMO_FOLDER, DemoArgs, DemoChapter};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::texts::progress;
use crate::ui::Ui;
use eskort_app::{CheckDepth, CheckTarget, Ending, KeepOptions, ListFilter};
use eskort_core::context::Context;
use eskort_core::record::RecordToPlace;
use eskort_practice::{
    Authority, AuthorityOptions, Clock, FTP_USER, FtpServer, NameServer, Office, Site, UploadKind, Uploads,
};
use jiff::SignedDuration;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// A file that says that the folder is a demo's and may be made anew.
const NOTE: &str = "WHAT-NEXT.txt";
const NAMES: [&str; 6] = [
    "lampholm.example",
    "www.lampholm.example",
    "archive.lampholm.example",
    "tickets.lampholm.example",
    "shop.lampholm.example",
    "stock.lampholm.internal",
];
const BOATS: usize = 20;
/// How long before today the story begins: one day after that, two thirds of a 90-day certificate are used up.
const DAYS: i64 = 61;

pub(crate) fn run(ui: &Ui, args: &DemoArgs) -> ExitStatus {
    ui.collect_reports();
    let played = block_on(play(ui, args));
    match played {
        Ok(status) => {
            ui.report_collected("demo");
            status
        }
        Err(Trouble { what, source }) => {
            let hint = "choose another place with --folder";
            errors::print(ui, &what, &ErrorText::coded("practice-world", source.to_string()).hint(hint));
            ExitStatus::Failed
        }
    }
}

/// What can go wrong before the story begins.
struct Trouble {
    what: String,
    source: io::Error,
}

fn trouble(what: impl Into<String>) -> impl FnOnce(io::Error) -> Trouble {
    let what = what.into();
    move |source| Trouble { what, source }
}

/// The practice world, and the folder it works in.
struct World {
    folder: PathBuf,
    clock: Clock,
    names: Arc<NameServer>,
    authority: Authority,
    site: Site,
    account: FtpServer,
    office: Office,
    hosting: Uploads,
    platform: Uploads,
}

async fn play(ui: &Ui, args: &DemoArgs) -> Result<ExitStatus, Trouble> {
    let folder = place_for(ui, &args.folder);
    let world = build(&folder, args.chapter.is_none()).await?;
    let mut teller = Teller { ui, world: &world, chapter: 0 };
    if let Err(status) = teller.tell_story(args).await {
        return Ok(status);
    }
    if args.stay {
        ui.result(&format!("\n{}", Tone::Strong.paint("The practice world stays up until you press Ctrl-C.")));
        eskort_app::Stop::listen().asked(1).await;
    }
    Ok(ExitStatus::Well)
}

/// Returns where the practice world goes: the folder that was named, or another one where the working folder is somebody else's,
/// whose inventory would not be obeyed.
fn place_for(ui: &Ui, folder: &Path) -> PathBuf {
    let whole = std::path::absolute(folder).unwrap_or_else(|_| folder.to_owned());
    let there = whole.ancestors().find(|path| path.exists()).unwrap_or(Path::new("/"));
    if folder != Path::new(DEMO_FOLDER) || eskort_host::check_trust(there).is_ok() {
        return whole;
    }
    let other = std::env::temp_dir().join(format!("{DEMO_FOLDER}-{}", nix::unistd::geteuid()));
    ui.result(&format!("Somebody else can change this folder: the practice world goes to {}.", other.display()));
    other
}

/// Reads the inventory as it is now, with the practice world's clock.
fn load(ui: &Ui, world: &World) -> Result<Context, ExitStatus> {
    let (clock, watch) = (world.clock.clone(), ui.clone());
    let clock = eskort_core::context::Clock::new(move || clock.now(), tokio::time::sleep);
    let folder = &world.folder;
    let context = eskort_app::load(
        &folder.join("eskort.toml"),
        &folder.join("state"),
        clock,
        Arc::new(move |about, p| progress::show(&watch, about, p)),
    );
    context.map_err(|error| errors::print_setup(ui, &error))
}

/// Builds the practice world in its folder. It is early there where a renewal is to come.
async fn build(folder: &Path, renews: bool) -> Result<World, Trouble> {
    prepare_folder(folder).map_err(trouble(format!("cannot use the folder {}", folder.display())))?;
    let clock = Clock::default();
    if renews {
        clock.set_offset(SignedDuration::from_hours(-24 * DAYS));
    }
    let failed = || trouble("cannot start the practice world on loopback");
    let names = Arc::new(NameServer::start().await.map_err(failed())?);
    NAMES.iter().for_each(|name| names.set(name, Ipv4Addr::LOCALHOST));
    let any = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
    let (bundle, key) = (folder.join("tls/site.pem"), folder.join("tls/site.key"));
    let site = Site::start(&folder.join("www"), &bundle, &key, any, any).await.map_err(failed())?;
    site.serve("shop.lampholm.example", &folder.join("account/htdocs"));
    let account = FtpServer::start(&folder.join("account")).await.map_err(failed())?;
    let options = AuthorityOptions {
        site_port: site.plain_address().port(),
        thinking: Duration::from_millis(150),
        ..AuthorityOptions::default()
    };
    let authority = Authority::start(options, clock.clone(), Arc::clone(&names)).await.map_err(failed())?;
    let office = Office::new(clock.clone(), Arc::clone(&names), site.plain_address().port());
    let hosting = Uploads::start(UploadKind::Hosting).await.map_err(failed())?;
    hosting.set_delay(Duration::from_secs(2));
    let platform = Uploads::start(UploadKind::Platform).await.map_err(failed())?;
    let folder = folder.to_owned();
    let world = World { folder, clock, names, authority, site, account, office, hosting, platform };
    write_files(&world).map_err(trouble(format!("cannot write into {}", world.folder.display())))?;
    Ok(world)
}

/// Makes the folder; only what an earlier demo left is removed.
fn prepare_folder(folder: &Path) -> io::Result<()> {
    if folder.exists() {
        let empty = folder.read_dir()?.next().is_none();
        if !empty && !folder.join(NOTE).exists() {
            let text = "it is there already, and no earlier demo made it";
            return Err(io::Error::new(io::ErrorKind::AlreadyExists, text));
        }
        std::fs::remove_dir_all(folder)?;
    }
    std::fs::create_dir_all(folder.join("www"))?;
    std::fs::create_dir_all(folder.join("tls"))?;
    std::fs::create_dir_all(folder.join("account/htdocs"))?;
    std::fs::write(folder.join(NOTE), "A practice world of `eskort demo`.\n")
}

fn write_files(world: &World) -> io::Result<()> {
    let write = |name: &str, text: &str| std::fs::write(world.folder.join(name), text);
    write(
        "www/index.html",
        "<!doctype html><title>Lampholm</title><h1>The lighthouse is open from ten to four.</h1>\n",
    )?;
    write("authority-api-root.pem", world.authority.api_root_pem())?;
    write("visitor-root.pem", &world.authority.visitor_root_pem())?;
    let inventory = format!(
        r#"# The inventory of the Lampholm Lighthouse Trust, in its practice world. docs/inventory.md explains every key.
contact = "keeper@lampholm.example"
state = "state"

[authority.public]
kind = "acme"
directory = "{directory}"
accept-terms = true
api-roots = "authority-api-root.pem"       # a practice authority is in no system's trust
visitor-roots = "visitor-root.pem"
limit-per-domain = "40 in 7d"              # public authorities count what they are asked for

[proof.pages]
kind = "http-folder"
folder = "www"
check-address = "{plain}"          # where the practice site answers

[server.front]
kind = "files"
copy = [
  {{ part = "bundle", to = "tls/site.pem" }},
  {{ part = "key", to = "tls/site.key" }},
]
check-address = "{tls}"
"#,
        directory = world.authority.directory(),
        plain = world.site.plain_address(),
        tls = world.site.tls_address(),
    );
    write("account/htdocs/index.html", "<!doctype html><title>Shop</title><h1>Lamps, wicks and oil.</h1>\n")?;
    write("account-root.pem", world.account.root_pem())?;
    write("office-root.pem", &world.office.root_pem())?;
    write_secret(&world.folder.join("account.password"), world.account.password())?;
    write_secret(&world.folder.join("zone.key"), &world.names.update_key())?;
    write("eskort.toml", &inventory)?;
    write(
        "nginx.conf",
        &format!(
            "# What the practice site would have as its configuration.\nevents {{}}\nhttp {{\n    server {{\n        listen {};\n        \
             server_name lampholm.example www.lampholm.example;\n        root {};\n    }}\n}}\n",
            world.site.plain_address(),
            world.folder.join("www").display()
        ),
    )?;
    write(NOTE, &what_next(&world.folder))
}

/// Writes a file that only its owner can read.
fn write_secret(path: &Path, text: &str) -> io::Result<()> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
    file.write_all(text.as_bytes())
}

/// Adds what is proved in other ways to the inventory.
fn add_proofs(world: &World) -> io::Result<()> {
    let path = world.folder.join("eskort.toml");
    let more = format!(
        r#"
[proof.zone]
kind = "dns-update"                        # RFC 2136
server = "{0}"
key-file = "zone.key"
name-servers = ["{0}"]

[proof.desk]
kind = "by-hand"                           # a person places the record
server = "{0}"
name-servers = ["{0}"]

[host.account]
kind = "ftp"                               # a hosting account without a shell
address = "127.0.0.1"
port = {1}
user = "{2}"
password-file = "account.password"
roots = "account-root.pem"

[proof.shop-pages]
kind = "http-folder"
folder = "htdocs"
host = "account"
check-address = "{3}"

[certificate.archive]
names = ["*.archive.lampholm.example", "archive.lampholm.example"]
proof = "zone"

[certificate.shop]
names = ["shop.lampholm.example"]
proof = "shop-pages"

[certificate.tickets]
names = ["tickets.lampholm.example"]
proof = "desk"
"#,
        world.names.address(),
        world.account.address().port(),
        FTP_USER,
        world.site.plain_address(),
    );
    let text = std::fs::read_to_string(&path)? + &more;
    std::fs::write(&path, text)
}

/// Adds twenty names of boats to the inventory, and to the name server.
fn add_boats(world: &World) -> io::Result<()> {
    let path = world.folder.join("eskort.toml");
    let mut text = std::fs::read_to_string(&path)?;
    for n in 1..=BOATS {
        let name = format!("boat{n}.lampholm.example");
        world.names.set(&name, Ipv4Addr::LOCALHOST);
        text += &format!("\n[certificate.boat{n}]\nnames = [\"{name}\"]\nauthority = \"public\"\nproof = \"pages\"\n");
    }
    std::fs::write(&path, text)
}

/// Does what a person is told to do.
fn place_by_hand(world: &World, records: &[RecordToPlace]) {
    for place in records {
        world.names.remove_texts(&place.record.name);
        world.names.add_text(&place.record.name, &place.record.text);
    }
}

fn what_next(folder: &Path) -> String {
    let here = std::env::current_dir().ok();
    let shown = here.and_then(|here| folder.strip_prefix(here).ok()).unwrap_or(folder).to_owned();
    // The program as it was called: `cargo run` puts it on no path.
    let program = std::env::args().next().unwrap_or_else(|| "eskort".into());
    let eskort = format!("{program} --config {}", shown.join("eskort.toml").display());
    let shown = shown.display();
    format!(
        "What to try next\n\n  \
         {eskort} list\n  \
         {eskort} show website\n  \
         cat {shown}/eskort.toml\n\n\
         With `{program} demo --stay` in one terminal, in another:\n\n  \
         {eskort} check\n  \
         {eskort} keep        (nothing to do: it is safe to run at any time)\n\n  \
         rm {shown}/tls/site.pem\n  \
         {eskort} keep        (puts it back)\n\n  \
         Write key = \"p384\" into [certificate.website] of {shown}/eskort.toml, then\n  \
         {eskort} keep --plan\n"
    )
}

/// Says something on lines of its own.
fn tell(ui: &Ui, text: &str) {
    if !ui.is_json() {
        ui.result("");
        crate::draw::table::wrap(text, ui.width()).iter().for_each(|line| ui.result(line));
        ui.result("");
    }
}

/// Tells the story.
struct Teller<'a> {
    ui: &'a Ui,
    world: &'a World,
    /// The chapter that was begun last.
    chapter: u32,
}

impl Teller<'_> {
    /// Says where the story stands.
    fn chapter(&mut self, title: &str, text: &str) {
        self.chapter += 1;
        let ui = self.ui;
        if !ui.is_json() {
            ui.result(&format!("\n{}", Tone::Strong.paint(&format!("{}. {title}", self.chapter))));
            crate::draw::table::wrap(text, ui.width()).iter().for_each(|line| ui.result(line));
            ui.result("");
        }
    }

    async fn tell_story(&mut self, args: &DemoArgs) -> Result<(), ExitStatus> {
        let (ui, world) = (self.ui, self.world);
        if !ui.is_json() {
            ui.result(&Tone::Strong.paint("A practice world is up."));
            ui.result("An authority, a name server, a site and a hosting account of the Lampholm Lighthouse Trust run on this machine's loopback.");
        }
        let told = |chapter| args.all || args.chapter == Some(chapter);
        beginning::tell_beginning(self, args.chapter.is_none()).await?;
        self.first_certificate(args.chapter.is_none()).await?;
        if told(DemoChapter::Survey) {
            survey::tell_chapter(self).await?;
        }
        if told(DemoChapter::Proofs) {
            self.proofs().await?;
        }
        if told(DemoChapter::Office) {
            office::tell_chapter(self).await?;
        }
        if told(DemoChapter::Uploads) {
            uploads::tell_chapter(self).await?;
        }
        if told(DemoChapter::Rating) {
            rating::tell_chapter(self).await?;
        }
        if told(DemoChapter::Many) {
            self.many().await?;
        }
        if args.chapter.is_none() {
            self.renewal(args.all).await?;
        }
        if !ui.is_json() {
            ui.result(&format!("\n{}", what_next(&world.folder)));
            if !args.all {
                ui.result(
                    "The demo has more chapters: `eskort demo survey`, `proofs`, `office`, `uploads`, `rating` and `many`; `--all` tells them all.",
                );
            }
            ui.result(&format!("This note is in {}", world.folder.join(NOTE).display()));
        }
        Ok(())
    }

    /// The first certificate; where that is the story, with what visitors see of it.
    async fn first_certificate(&mut self, and_check: bool) -> Result<(), ExitStatus> {
        let (ui, world) = (self.ui, self.world);
        let context = load(ui, world)?;
        let day = eskort_core::words::day(context.now());
        self.chapter(
            "The first certificate",
            &format!(
                "It is {day}. The site answers with a placeholder that no browser trusts. `eskort keep` reads the inventory \
                 and takes the certificate through its six stages; the authority looks at the file that Eskort publishes \
                 on the site."
            ),
        );
        keep_once(ui, &context).await?;
        if and_check {
            let text = "`eskort check` connects as a visitor would and compares with what was installed.";
            self.chapter("What visitors see", text);
            check_once(ui, &context).await?;
        }
        Ok(())
    }

    /// Other ways to prove control.
    async fn proofs(&mut self) -> Result<(), ExitStatus> {
        let (ui, world) = (self.ui, self.world);
        self.chapter(
            "Other ways to prove control",
            "The inventory gains a wildcard for the photo archive, proved by updates of the zone; the museum shop, whose \
             pages lie on a hosting account that has only FTP; and the ticket desk's name, whose record a person has to place.",
        );
        add_proofs(world).map_err(|source| cannot_write(ui, &source))?;
        let context = load(ui, world)?;
        let records = keep_once(ui, &context).await?;
        self.chapter(
            "The person has placed the record",
            "`eskort keep` goes on with the same order. What is done already is left alone.",
        );
        place_by_hand(world, &records);
        keep_once(ui, &context).await.map(drop)
    }

    /// Twenty certificates at once.
    async fn many(&mut self) -> Result<(), ExitStatus> {
        let (ui, world) = (self.ui, self.world);
        self.chapter(
            "Twenty at once",
            "The trust's twenty boats each get a name of their own. Eskort has several orders under way at the authority at \
             the same time, eight unless the inventory says otherwise; on a terminal a table shows what each is at.",
        );
        add_boats(world).map_err(|source| cannot_write(ui, &source))?;
        keep_once(ui, &load(ui, world)?).await.map(drop)
    }

    /// The renewal, when the time has come.
    async fn renewal(&mut self, all: bool) -> Result<(), ExitStatus> {
        let (ui, world) = (self.ui, self.world);
        world.clock.set_offset(SignedDuration::ZERO);
        let days = eskort_core::words::duration(SignedDuration::from_hours(24 * DAYS));
        self.chapter(
            &format!("{days} later"),
            "The practice world's clock moves to today. A third of the lifetimes is left: renewal is due. New generations have \
             new keys; the old ones are kept.",
        );
        let context = load(ui, world)?;
        list_once(ui, &context).await?;
        ui.result("");
        let records = keep_once(ui, &context).await?;
        if all {
            place_by_hand(world, &records);
            self.chapter("All is well", "The person has placed the new record, too.");
            keep_once(ui, &context).await?;
        }
        ui.result("");
        list_once(ui, &context).await
    }
}

fn cannot_write(ui: &Ui, source: &io::Error) -> ExitStatus {
    errors::print(ui, "cannot write the inventory", &ErrorText::coded("practice-world", source.to_string()));
    ExitStatus::Failed
}

/// Runs `keep` as the command does; returns what a person has to place.
async fn keep_once(ui: &Ui, context: &Context) -> Result<Vec<RecordToPlace>, ExitStatus> {
    let kept = eskort_app::keep(context, &KeepOptions::default()).await;
    ui.settle();
    let entries = kept.map_err(|error| errors::print_store(ui, &error))?;
    keep::print(ui, context, &entries);
    let mut records = Vec::new();
    for entry in entries {
        match entry.ending {
            Ending::AwaitsPerson(to_place) => records.extend(to_place),
            Ending::Failed { .. } => return Err(ExitStatus::Failed),
            _ => {}
        }
    }
    Ok(records)
}

async fn check_once(ui: &Ui, context: &Context) -> Result<(), ExitStatus> {
    match eskort_app::check(context, &CheckTarget::Certificate("website".into()), &CheckDepth::Handshake).await {
        Ok(reports) => {
            check::print(ui, &reports, context.now());
            Ok(())
        }
        Err(error) => {
            errors::print(ui, "cannot look at `website`", &errors::tell(&error, "website"));
            Err(ExitStatus::Failed)
        }
    }
}

async fn list_once(ui: &Ui, context: &Context) -> Result<(), ExitStatus> {
    let rows =
        eskort_app::list(context, &ListFilter::default()).await.map_err(|error| errors::print_store(ui, &error))?;
    list::print(ui, &rows, context.now());
    Ok(())
}
