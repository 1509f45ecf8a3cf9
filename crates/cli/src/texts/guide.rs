//! What a newcomer is told first.

/// Said by `eskort` alone.
pub(crate) const FIRST_STEPS: &str = "\
Eskort takes this server's TLS certificates all the way: ordered, proved, installed, checked, renewed.

  1. See it work:                    eskort demo     a practice world: no root, no network, ten seconds
  2. See what this machine serves:   eskort survey
  3. Write down what should be:      eskort add     lets you choose a site, and asks what it cannot know
     Or without a question:          eskort add www.lampholm.example --directory https://ca.example/directory \\
                                       --accept-terms --contact keeper@lampholm.example
     Or by hand, in eskort.toml (root: /etc/eskort/eskort.toml; see docs/inventory.md):

       contact = \"keeper@lampholm.example\"          # a mail address of yours

       [authority.public]
       kind = \"acme\"
       directory = \"https://ca.example/directory\"   # your authority's directory address
       accept-terms = true

       [proof.pages]
       kind = \"http-folder\"
       folder = \"/srv/www/lampholm\"                 # where your site's pages are

       [server.front]
       kind = \"nginx\"

       [certificate.website]
       names = [\"lampholm.example\", \"www.lampholm.example\"]
       install = [{ server = \"front\", redirect = true }]

  4. Try it without an order:        eskort rehearse
     See what would be done:         eskort keep --plan
     Do it:                          eskort keep     safe to run at any time
     Have it done every 12 hours:    eskort schedule

`eskort --help` lists all commands.";

#[cfg(test)]
mod tests {
    #[test]
    fn the_example_is_an_inventory_without_mistakes() {
        let example: String = super::FIRST_STEPS
            .lines()
            .skip_while(|l| !l.contains("contact ="))
            .take_while(|l| !l.starts_with("  4."))
            .map(|l| format!("{}\n", l.trim_start()))
            .collect();
        let read = eskort_inventory::parse_inventory(&example);
        assert_eq!(read.unwrap().certificates.len(), 1);
    }
}
