use super::survey;
use crate::survey::Survey;
use crate::survey::testing::{lines, reader};
use std::path::{Path, PathBuf};

const MAIN: &str = "/etc/apache2/apache2.conf";

fn surveyed(files: &[(&str, &str)]) -> Survey {
    survey(Path::new(MAIN), &mut reader(files)).unwrap()
}

#[test]
fn the_tree_of_a_package_is_read_in_apaches_order() {
    let main = "ServerRoot \"/etc/apache2\"\nDefine SITE lampholm\nIncludeOptional mods-enabled/*.load\nInclude ports.conf\n\
                IncludeOptional sites-enabled/*.conf\n";
    let ports = "Listen 80\n<IfModule ssl_module>\n\tListen 443\n</IfModule>\n<IfModule mod_gnutls.c>\n\tListen 444\n</IfModule>\n";
    let site = "<VirtualHost *:80>\n\tServerName ${SITE}.example\n\tServerAlias www.${SITE}.example \\\n\t\tpost.lampholm.example\n\
                \tRedirect permanent / https://lampholm.example/\n</VirtualHost>\n<IfModule mod_ssl.c>\n<VirtualHost _default_:443>\n\
                \tServerName lampholm.example:443\n\tDocumentRoot /srv/www\n\tSSLEngine on\n\tSSLCertificateFile \"/etc/tls/a b.pem\"\n\
                \tSSLCertificateKeyFile tls/a.key\n\tSSLCertificateChainFile ${APACHE_HOME}/chain.pem\n</VirtualHost>\n</IfModule>\n";
    let found = surveyed(&[
        (MAIN, main),
        ("/etc/apache2/envvars", "export APACHE_HOME=/srv/apache$SUFFIX\nexport APACHE_X=`x`\n"),
        ("/etc/apache2/mods-enabled/ssl.load", "LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so\n"),
        ("/etc/apache2/ports.conf", ports),
        ("/etc/apache2/sites-enabled/site.conf", site),
    ]);
    let file = "/etc/apache2/sites-enabled/site.conf";
    assert_eq!(
        lines(&found),
        [
            format!(
                "{file}:1 lampholm.example,www.lampholm.example,post.lampholm.example 80 -> https://lampholm.example/"
            ),
            format!("{file}:8 lampholm.example 443+tls /etc/tls/a b.pem,/etc/apache2/tls/a.key,/srv/apache/chain.pem"),
        ]
    );
    assert_eq!(found.sites[1].place.included_from, [(PathBuf::from(MAIN), 5)]);
    assert_eq!((found.remarks.len(), found.sites[1].document_root.as_deref()), (0, Some("/srv/www")));
}

#[test]
fn conditions_macros_and_what_is_not_there() {
    let main = "Listen 192.0.2.7:8443\nListen 80\n<Macro site $name $port>\n<VirtualHost *:$port>\nServerName $name.example\n</VirtualHost>\n</Macro>\n\
                Use site lampholm 80\nUse site oil 81\nUse nothing\nInclude missing.conf\nIncludeOptional other.conf\n\
                <IfDefine !OLD>\n<IfVersion >= 2.4>\n<VirtualHost 192.0.2.7:8443>\nServerName new.example\n<Directory />\nSSLEngine on\n</Directory>\n</VirtualHost>\n</IfVersion>\n</IfDefine>\n\
                <IfVersion < 2.4>\n<VirtualHost *>\n</VirtualHost>\n</IfVersion>\nUnDefine X\nUse site $x\n";
    let found = surveyed(&[(MAIN, main)]);
    let hosts = lines(&found);
    assert_eq!(hosts[..2], [format!("{MAIN}:8 lampholm.example 80"), format!("{MAIN}:9 oil.example 81")]);
    assert_eq!(hosts[2], format!("{MAIN}:15 new.example 192.0.2.7:8443"));
    let unreached: Vec<bool> = found.sites.iter().map(|site| site.unreached.is_some()).collect();
    assert_eq!(unreached[..3], [false, true, false]);
    let said: Vec<String> = found.remarks.iter().map(|r| format!("{}: {}", r.place.line, r.text)).collect();
    assert!(said.iter().any(|text| text == "10: the macro `nothing` is not defined"), "{said:?}");
    assert!(said.iter().any(|text| text.starts_with("11: cannot read /etc/apache2/missing.conf")), "{said:?}");
}

#[test]
fn conditions_are_held_against_the_version_of_the_program() {
    let conditions = ["= 2.4.71", ">= 2.4.70", "> 2.4.71", "2.4", "< 2.4.64", "!>= 2.5"];
    let host = |(n, condition): (usize, &&str)| {
        format!("<IfVersion {condition}>\n<VirtualHost *:80>\nServerName n{n}.example\n</VirtualHost>\n</IfVersion>\n")
    };
    let main: String = conditions.iter().enumerate().map(host).collect();
    let held = |program: &str, text: &str| -> Vec<usize> {
        let found = surveyed(&[(MAIN, &main), (program, text)]);
        let names = lines(&found).join(" ");
        (0..conditions.len()).filter(|n| names.contains(&format!("n{n}.example"))).collect()
    };
    let text = "\u{7f}ELF Apache/ Apache/2 Apache/2.4\0Apache/2.4.71 (Debian)\0Apache/1.3.9";
    for program in ["/usr/sbin/apache2", "/usr/sbin/httpd", "/etc/apache2/bin/httpd"] {
        assert_eq!(held(program, text), [0, 1, 3, 5], "{program}");
    }
    assert_eq!(held("/usr/sbin/apache2", "no version"), [3, 4, 5]);
}

#[test]
fn circles_and_sections_that_do_not_fit_are_refused() {
    let load = |text: &'static str| {
        survey(Path::new(MAIN), &mut |path| match path.ends_with("apache2.conf") {
            true => Ok(vec![(path.to_owned(), text.into())]),
            false => Err(std::io::ErrorKind::NotFound.into()),
        })
    };
    for text in
        ["Include apache2.conf", "<Macro a>\nUse a\n</Macro>\nUse a", "<IfModule x>", "</IfModule>", "<a>\n</b>"]
    {
        assert!(load(text).is_err(), "{text}");
    }
}

proptest::proptest! {
    #[test]
    fn any_bytes_are_read_or_refused(text in "(<|</|>|VirtualHost|IfModule|Macro|Use| a| \\$a|\n|\\\\|\"|#|Include /x|Listen 80|\\$\\{){0,40}") {
        let mut deep = 0;
        let _ = survey(Path::new(MAIN), &mut |path| {
            deep += 1;
            if deep > 50 { Ok(vec![]) } else { Ok(vec![(path.to_owned(), text.clone().into_bytes())]) }
        });
    }
}
