//! An old site that leads to the new one, or shows a notice while it moves: by the rule file of its
//! web server, or, where the server reads none, by a small program that answers first. Its files
//! and its database stay.

use super::Surroundings;
use super::placing::{Edit, Edits, Placed, PlacedReport, Placing, take_back_unseen};
use crate::effect::{Effect, Host, MADE_UP, told, twin};
use crate::journal::{Operation, random_part};
use fernweh_core::address::WebAddress;
use fernweh_core::notice::{Notice, TEXT, apache_clock};
use fernweh_core::page::{TextKind, decode, read_html};
use fernweh_core::placed::{FRONT_FILE, Purpose, RULE_FILE, php_program, put};
use fernweh_core::redirects::{Server, everything};
use fernweh_ports::{PageResponse, Result, SiteAccess, Trouble};
use std::time::Duration;
use url::Url;

/// An old site, and what becomes of it.
pub enum Close<'a> {
    /// Every address leads to the same one of this site.
    LeadsTo(&'a WebAddress),
    /// A notice for so long, and then the site again.
    Notice(Duration),
}

/// How a run that shows one is known.
pub(super) const NOTICE: &str = "shows a notice";

/// How visitors who come too early are asked to come again.
const RETRY: u64 = 120;
/// A program that was just replaced may be remembered by PHP for some seconds.
const REMEMBERED: Duration = Duration::from_secs(1);
const TRIES: u32 = 6;

/// A site that is being closed.
struct Closing<'a> {
    site: &'a dyn SiteAccess,
    url: &'a WebAddress,
    how: &'a Close<'a>,
    host: Host,
    around: Surroundings<'a>,
    /// Addresses that are asked: one that no site has, the first page, and a plain file.
    asked: Vec<String>,
}

impl Close<'_> {
    /// Closes a site.
    pub fn run(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<PlacedReport> {
        let doing = |trouble: Trouble| trouble.doing(format!("closing site {}", site.name()));
        self.work(site, around).map_err(doing)
    }

    /// Shows the notice by the rule file, which leaves every other file as it is.
    pub(super) fn by_rule_file_alone(
        &self,
        site: &dyn SiteAccess,
        around: Surroundings<'_>,
    ) -> Result<PlacedReport> {
        self.closing(site, around)?.by_rule_file()?.ok_or_else(|| {
            Trouble::outside(format!(
                "visitors of site {} cannot be kept from writing",
                site.name()
            ))
            .because(format!("its web server does not follow {RULE_FILE}"))
            .hint(
                "leave out --quiet-source, and close the site in the configuration of its web \
                     server meanwhile",
            )
        })
    }

    fn work(&self, site: &dyn SiteAccess, around: Surroundings<'_>) -> Result<PlacedReport> {
        let closing = self.closing(site, around)?;
        match closing.by_rule_file()? {
            Some(report) => Ok(report),
            None => closing.by_front_file(),
        }
    }

    fn closing<'b>(
        &'b self,
        site: &'b dyn SiteAccess,
        around: Surroundings<'b>,
    ) -> Result<Closing<'b>> {
        let name = site.name();
        let url = site.needed_url()?;
        if let Close::LeadsTo(to) = self
            && [url.host.clone(), twin(url)].contains(&to.host)
        {
            return Err(Trouble::usage("an address cannot lead to itself")
                .because(format!("{url} and {to} are one address, whichever host has it"))
                .hint(
                    "with the same name nothing needs to be closed: once the name leads to the \
                     new host, nobody comes here; --page shows a notice meanwhile",
                ));
        }
        let host = Host::of_or_named(site, url)?;
        let front = format!("{url}/");
        if let Err(problem) = host.head(&front) {
            return Err(Trouble::outside(format!("site {name} does not answer"))
                .at(front)
                .because(format!("{problem}; nobody could see whether it is closed"))
                .hint(format!("check its web server, and connect-to in [site.{name}]")));
        }
        let asked = asked(&host, url);
        Ok(Closing { site, url, how: self, host, around, asked })
    }
}

/// Addresses that show what is covered.
fn asked(host: &Host, url: &WebAddress) -> Vec<String> {
    let front = format!("{url}/");
    let mut asked = vec![format!("{url}{MADE_UP}"), front.clone()];
    if let (Ok(answer), Ok(base)) = (host.page(&front), Url::parse(&front)) {
        let text = decode(&answer.body, answer.charset.as_deref(), TextKind::Html);
        let page = read_html(&text.text, false);
        let parts = page.links.iter().filter(|link| link.kind.is_resource());
        let own = parts.filter_map(|link| base.join(&link.address).ok());
        let mut own = own.filter(|part| part.origin() == base.origin());
        asked.extend(own.next().map(|part| part.to_string()));
    }
    asked
}

impl Closing<'_> {
    fn operation(&self) -> String {
        match self.how {
            Close::LeadsTo(to) => format!("leads to {to}"),
            Close::Notice(time) => format!("{NOTICE} for {} min", time.as_secs() / 60),
        }
    }

    fn placing<'b>(&'b self, edits: Edits<'b>) -> Placing<'b> {
        Placing {
            operation: Operation::Close,
            input: self.operation(),
            removes: false,
            edits,
            then: None,
            host: Some(&self.host),
            front: format!("{}/", self.url),
        }
    }

    /// By the rule file; `None` where the web server does not follow it.
    fn by_rule_file(&self) -> Result<Option<PlacedReport>> {
        let place = |lines: Vec<String>| -> Edit<'_> {
            Box::new(move |text: Option<&[u8]>| {
                Some(put(text.unwrap_or_default(), Purpose::Closed, &lines))
            })
        };
        let placing = match self.how {
            Close::LeadsTo(to) => {
                let lines = everything(self.url, to, Server::Apache);
                self.placing(vec![(RULE_FILE, place(lines))])
            }
            Close::Notice(time) => {
                // Its clock may be in any zone: it says itself what it shows.
                let secret = format!("fernweh-{}{}", random_part(), random_part());
                let clock = apache_clock(&secret);
                let mut placing = self.placing(vec![(RULE_FILE, place(clock))]);
                placing.then = Some(Box::new(move || {
                    let lines = match self.clock(&secret, *time) {
                        Some(until) => notice().apache(&until),
                        None => Vec::new(),
                    };
                    vec![(RULE_FILE, place(lines))]
                }));
                placing
            }
        };
        let Placed::Stands(mut report) = placing.run(self.site, self.around)? else {
            return Ok(None);
        };
        report.effects = self.effects();
        if report.effects.first().is_some_and(|effect| effect.works) {
            report.by = Some(RULE_FILE.into());
            return Ok(Some(report));
        }
        take_back_unseen(self.site, report.run.as_deref(), self.around)?;
        Ok(None)
    }

    /// The moment at which a notice ends, by the clock of the web server.
    fn clock(&self, secret: &str, time: Duration) -> Option<String> {
        let answer = self.host.head(&format!("{}/{secret}", self.url)).ok()?;
        let said = answer.location?;
        let digits = said.rsplit('/').next()?;
        let now = jiff::civil::DateTime::strptime("%Y%m%d%H%M%S", digits).ok()?;
        let span = jiff::SignedDuration::try_from(time).ok()?;
        Some(now.checked_add(span).ok()?.strftime("%Y%m%d%H%M%S").to_string())
    }

    /// By a program that answers first.
    fn by_front_file(&self) -> Result<PlacedReport> {
        let copy = format!(".fernweh-{}{}.php", random_part(), random_part());
        let edits: Edits<'_> = match self.how {
            Close::LeadsTo(to) => {
                let program = php_program(&everything(self.url, to, Server::Php));
                vec![(FRONT_FILE, Box::new(move |_| Some(program)))]
            }
            Close::Notice(time) => {
                let now = jiff::Timestamp::now().as_second();
                let until = now + i64::try_from(time.as_secs()).unwrap_or(0);
                let present = self.present(FRONT_FILE)?;
                let then = present.as_ref().map(|_| copy.as_str());
                let program = php_program(&notice().php(until, then));
                let mut edits: Edits<'_> = Vec::new();
                if let Some(present) = present {
                    edits.push((&copy, Box::new(move |_| Some(present))));
                }
                edits.push((FRONT_FILE, Box::new(move |_| Some(program))));
                edits
            }
        };
        let mut report = self.placing(edits).run(self.site, self.around)?.stands()?;
        for _ in 0..TRIES {
            report.effects = self.effects();
            if report.effects.get(1).is_some_and(|effect| effect.works) {
                report.by = Some(FRONT_FILE.into());
                return Ok(report);
            }
            std::thread::sleep(REMEMBERED);
        }
        let came = report.effects.get(1).map(|effect| effect.came.clone()).unwrap_or_default();
        take_back_unseen(self.site, report.run.as_deref(), self.around)?;
        Err(Trouble::outside(format!("site {} cannot be closed from here", self.site.name()))
            .at(self.url.to_string())
            .because(format!(
                "its web server follows neither {RULE_FILE} nor {FRONT_FILE}: the first page \
                 answered {came}; all is as it was before"
            ))
            .hint(
                "close it in the configuration of the web server; fernweh redirects prints rules",
            ))
    }

    fn present(&self, path: &str) -> Result<Option<Vec<u8>>> {
        let Some(mut files) = self.site.files()? else { return Ok(None) };
        let limit = fernweh_core::limits::TEXT_FILE;
        Ok(match fernweh_ports::read_whole(&mut *files, path.as_bytes(), limit)? {
            fernweh_ports::Held::Whole(file) => Some(file.bytes),
            _ => None,
        })
    }

    fn effects(&self) -> Vec<Effect> {
        let effect = |asked: &String| match self.how {
            Close::LeadsTo(to) => {
                let path = asked.strip_prefix(&self.url.to_string()).unwrap_or_default();
                self.host.leads(asked, &format!("{to}{path}"))
            }
            Close::Notice(_) => {
                let fetched = self.host.head(asked);
                let works = matches!(&fetched, Ok(PageResponse { status: 503, .. }));
                Effect { asked: asked.clone(), came: told(&fetched), works }
            }
        };
        self.asked.iter().map(effect).collect()
    }
}

fn notice() -> Notice {
    Notice { text: TEXT.into(), retry: RETRY }
}
