//! The page of `diagnose URL`: the way of a request as one short path, with the break marked.
use super::diagnosis::{self, Look};
use crate::render::{Block, Page, Tone};
use jolly_core::chain::{Chain, Hop, Link};
use jolly_core::report::Diagnosis;
use jolly_core::route::Url;

pub(crate) fn page(report: &Diagnosis, chain: &Chain, url: &Url, look: &Look) -> Page {
    let mut page = Page::new(format!("The way to {}", url.shown));
    answer(&mut page, report, chain, url);
    let links = report.chain.as_deref().unwrap_or_default();
    if !links.is_empty() {
        page.push(Block::Checks(links.iter().map(hop).collect()));
        page.push(Block::Evidence(proofs(report, chain, look)));
    }
    for entry in &report.services {
        diagnosis::service(&mut page, entry, look);
    }
    let all: std::collections::BTreeSet<_> =
        report.services.iter().flat_map(|s| s.not_seen.clone()).collect();
    page.not_seen(&all.into_iter().collect::<Vec<_>>());
    page
}

fn answer(page: &mut Page, report: &Diagnosis, chain: &Chain, url: &Url) {
    let shown = &url.shown;
    if let Some(elsewhere) = &chain.elsewhere {
        return page.answer(Tone::Plain, format!("Nothing was sent: {elsewhere}."));
    }
    let said = match &chain.answer {
        Some(answer) => match answer.status {
            Some(status) => format!("{shown} answers {status}"),
            None => format!("{shown} does not answer"),
        },
        None if look_live(chain) => format!("{shown} could not be asked"),
        None => format!("{shown} was not asked; in the files"),
    };
    if chain.is_well() {
        let took = chain.answer.as_ref().map_or(0, |a| a.took_ms);
        return page.answer(Tone::Well, format!("{said} in {took} ms, and every hop that was seen is well."));
    }
    let links = report.chain.as_deref().unwrap_or_default();
    let broken = links.iter().find(|l| l.ok == Some(false) && l.hop != Hop::Name);
    let text = match (broken, report.services.first()) {
        (Some(link), _) => format!("{said}: it breaks at the {}, {}.", link.hop.word(), link.what),
        (None, Some(entry)) => format!("{said}: it breaks at {}.", entry.service),
        (None, None) => format!("{said}, and no hop is seen to be broken."),
    };
    page.answer(Tone::Problem, text);
}

/// Whether sockets could be seen at all.
fn look_live(chain: &Chain) -> bool {
    chain.links.iter().any(|l| l.hop == Hop::Listener && l.ok == Some(false))
}

/// A hop as the path shows it.
fn hop(link: &Link) -> (Tone, String, String) {
    let tone = match link.ok {
        Some(true) => Tone::Well,
        Some(false) => Tone::Problem,
        None => Tone::Plain,
    };
    (tone, link.hop.word().to_owned(), link.what.clone())
}

/// What is known of the hops that are not told further below.
fn proofs(report: &Diagnosis, chain: &Chain, look: &Look) -> Vec<(String, String)> {
    let told: Vec<&String> = report
        .services
        .iter()
        .flat_map(|s| s.standing().flat_map(|c| &c.evidence))
        .map(|e| &e.detail)
        .collect();
    let new = |e: &&jolly_core::finding::Evidence| !told.contains(&&e.detail);
    let all: Vec<_> = chain.links.iter().flat_map(|l| &l.evidence).filter(new).cloned().collect();
    diagnosis::evidence(&all, look)
}
