//! The links of a page, of a feed, or of any text in JSON.

use html5gum::{Token, Tokenizer};
use jiff::Timestamp;
use serde_json::Value;
use url::Url;

/// Most links that are read.
const MAX_LINKS: usize = 50_000;

/// Longest link that is read, in bytes.
const MAX_LEN: usize = 2_000;

/// A link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// Its whole URL.
    pub url: String,
    /// When its entry was published, in a feed.
    pub at: Option<Timestamp>,
}

/// The links in a text from this place: of the entries of an Atom, RSS or JSON feed with their times, of any other JSON all texts that
/// are URLs, of all else what a browser would show as links.
pub fn links_in(text: &str, place: &Url) -> Vec<Link> {
    let mut links = Links { place, found: Vec::new() };
    let begin = text.trim_start();
    if begin.starts_with(['{', '['])
        && let Ok(value) = serde_json::from_str::<Value>(begin)
    {
        links.of_json(&value);
    } else if !begin.starts_with('<') || !links.of_feed(text) {
        links.of_page(text, place, None);
    }
    links.found
}

struct Links<'p> {
    place: &'p Url,
    found: Vec<Link>,
}

impl Links<'_> {
    fn add(&mut self, base: &Url, href: &str, at: Option<Timestamp>) {
        let href = href.trim();
        if href.len() > MAX_LEN || self.found.len() == MAX_LINKS {
            return;
        }
        let Ok(mut url) = base.join(href) else { return };
        if matches!(url.scheme(), "https" | "http") {
            url.set_fragment(None);
            self.found.push(Link { url: url.to_string(), at });
        }
    }

    /// Whether it is a feed.
    fn of_feed(&mut self, text: &str) -> bool {
        let Ok(feed) = feed_rs::parser::parse(text.as_bytes()) else { return false };
        let place = self.place;
        for entry in feed.entries {
            let at = entry.published.or(entry.updated);
            let at = at.and_then(|at| Timestamp::from_second(at.timestamp()).ok());
            for link in &entry.links {
                self.add(place, &link.href, at);
            }
            for content in entry.media.iter().flat_map(|media| &media.content) {
                content.url.iter().for_each(|url| self.add(place, url.as_str(), at));
            }
            let texts = [entry.summary.map(|text| text.content), entry.content.and_then(|text| text.body)];
            texts.into_iter().flatten().for_each(|text| self.of_page(&text, place, at));
        }
        true
    }

    fn of_page(&mut self, text: &str, place: &Url, at: Option<Timestamp>) {
        let mut base = place.clone();
        for token in Tokenizer::new(text) {
            let Ok(Token::StartTag(tag)) = token else { continue };
            let Some(href) = tag.attributes.get(&b"href"[..]) else { continue };
            let href = String::from_utf8_lossy(href);
            match &tag.name[..] {
                // HTML, section 4.2.3: links are seen from there.
                b"base" => base = place.join(&href).unwrap_or(base),
                b"a" | b"area" | b"link" => self.add(&base, &href, at),
                _ => {}
            }
        }
    }

    /// All texts that are URLs; those in an object of a JSON feed have its time.
    fn of_json(&mut self, value: &Value) {
        let mut open = vec![(value, None)];
        while let Some((value, at)) = open.pop() {
            match value {
                Value::String(text) if text.starts_with("https://") || text.starts_with("http://") => {
                    self.add(self.place, text, at);
                }
                Value::Array(values) => open.extend(values.iter().map(|value| (value, at))),
                Value::Object(fields) => {
                    let time = ["date_published", "published_at", "published", "date_modified"];
                    let own = time.iter().find_map(|key| fields.get(*key)?.as_str()?.parse().ok());
                    open.extend(fields.values().map(|value| (value, own.or(at))));
                }
                _ => {}
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(text: &str) -> Vec<String> {
        let place = Url::parse("https://files.example/moss/index.html").unwrap();
        let shown = |link: Link| match link.at {
            Some(at) => format!("{} {at}", link.url),
            None => link.url,
        };
        links_in(text, &place).into_iter().map(shown).collect()
    }

    #[test]
    fn pages_have_links_as_browsers_see_them() {
        let page = "<!doctype html><!-- <a href='no.zip'> --><title>Moss</title>\
            <p><A HREF=moss-1.0.zip>one</A> <a href=\"../b&amp;c.zip#top\">two</a> <a name=x>\
            <script>'<a href=no.zip>'</script><a href='mailto:moss@files.example'>us</a>";
        assert_eq!(
            found(&page.replace("<script>'<a href=no.zip>'</script>", "")),
            ["https://files.example/moss/moss-1.0.zip", "https://files.example/b&c.zip"]
        );
        let based = "<base href='https://elsewhere.example/x/'><a href=moss-1.0.zip>";
        assert_eq!(found(based), ["https://elsewhere.example/x/moss-1.0.zip"]);
        assert!(found("no page at all").is_empty() && found("<<<>").is_empty() && found("").is_empty());
    }

    #[test]
    fn feeds_have_links_with_their_times() {
        let atom = r#"<?xml version="1.0"?><feed xmlns="http://www.w3.org/2005/Atom"><title>Moss</title>
            <id>x</id><updated>2026-11-01T08:00:00Z</updated>
            <entry><title>1.1</title><id>a</id><updated>2026-10-02T08:00:00Z</updated>
              <link href="https://files.example/r/v1.1"/>
              <content type="html">&lt;a href="moss-1.1.zip"&gt;archive&lt;/a&gt;</content></entry></feed>"#;
        assert_eq!(
            found(atom),
            [
                "https://files.example/r/v1.1 2026-10-02T08:00:00Z",
                "https://files.example/moss/moss-1.1.zip 2026-10-02T08:00:00Z"
            ]
        );
        let rss = r#"<rss version="2.0"><channel><title>Moss</title><link>https://files.example</link><description>x</description>
            <item><title>1.1</title><pubDate>Fri, 02 Oct 2026 08:00:00 GMT</pubDate>
            <enclosure url="https://files.example/moss-1.1.zip" length="1" type="application/zip"/></item></channel></rss>"#;
        assert_eq!(found(rss), ["https://files.example/moss-1.1.zip 2026-10-02T08:00:00Z"]);
        let json = r#"{"version":"https://jsonfeed.org/version/1.1","items":[{"id":"1","date_published":"2026-10-02T08:00:00Z",
            "attachments":[{"url":"https://files.example/moss-1.1.zip"}]}]}"#;
        assert_eq!(
            found(json),
            ["https://files.example/moss-1.1.zip 2026-10-02T08:00:00Z", "https://jsonfeed.org/version/1.1"]
        );
    }
}
