//! Descriptions as HTML: a safe subset of Markdown (CommonMark). The publisher of a package writes them, so nothing of them is
//! HTML of its own, loads anything, or leads elsewhere than to the web.

use minijinja::HtmlEscape;
use pulldown_cmark::{CowStr, Event, HeadingLevel, LinkType, Parser, Tag, TagEnd, html};

/// A text in Markdown as HTML that is safe in any page.
pub fn to_html(text: &str) -> String {
    let mut is_link_dropped = Vec::new();
    let events = Parser::new(text).filter_map(|event| safe(event, &mut is_link_dropped));
    let mut shown = String::new();
    html::push_html(&mut shown, events);
    shown
}

/// An event as it may be shown; `dropped` says of each open link whether it is shown as text.
fn safe<'t>(event: Event<'t>, dropped: &mut Vec<bool>) -> Option<Event<'t>> {
    Some(match event {
        // HTML is shown as it is written.
        Event::Html(text) | Event::InlineHtml(text) | Event::Text(text) => escaped(&text),
        Event::Code(text) => Event::Html(format!("<code>{}</code>", HtmlEscape(&text)).into()),
        Event::Start(Tag::HtmlBlock) => Event::Start(Tag::Paragraph),
        Event::End(TagEnd::HtmlBlock) => Event::End(TagEnd::Paragraph),
        Event::Start(Tag::Heading { .. }) => Event::Start(heading()),
        Event::End(TagEnd::Heading(_)) => Event::End(TagEnd::Heading(HeadingLevel::H3)),
        Event::Start(Tag::CodeBlock(_)) => {
            Event::Start(Tag::CodeBlock(pulldown_cmark::CodeBlockKind::Indented))
        }
        // Of a picture the text remains.
        Event::Start(Tag::Image { .. }) | Event::End(TagEnd::Image) => return None,
        Event::Start(Tag::Link { dest_url, .. }) => {
            let is_web = dest_url.starts_with("https://") || dest_url.starts_with("http://");
            dropped.push(!is_web);
            return is_web.then(|| Event::Start(link(dest_url)));
        }
        Event::End(TagEnd::Link) => {
            return (dropped.pop() == Some(false)).then_some(Event::End(TagEnd::Link));
        }
        other => other,
    })
}

/// A text without anything that means something in HTML.
fn escaped(text: &str) -> Event<'static> {
    Event::Html(HtmlEscape(text).to_string().into())
}

/// Below the headings of the page.
fn heading<'t>() -> Tag<'t> {
    Tag::Heading { level: HeadingLevel::H3, id: None, classes: Vec::new(), attrs: Vec::new() }
}

fn link(dest_url: CowStr<'_>) -> Tag<'_> {
    Tag::Link { link_type: LinkType::Inline, dest_url, title: "".into(), id: "".into() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paragraphs_lists_and_code_are_shown() {
        let shown = to_html("# Rain\n\nCounts *drops* with `count()`:\n\n- one\n- two\n");
        assert_eq!(
            shown,
            "<h3>Rain</h3>\n<p>Counts <em>drops</em> with <code>count()</code>:</p>\n<ul>\n<li>one</li>\n<li>two</li>\n</ul>\n"
        );
    }

    #[test]
    fn nothing_runs_loads_or_leads_elsewhere_than_to_the_web() {
        for text in [
            "<script>alert(1)</script>",
            "a <img src=x onerror=alert(1)> b",
            "[x](javascript:alert(1))",
            "[x](data:text/html,hi)",
            "![x](https://tracker.example/a.png)",
            "[x](file:///etc/passwd)",
            "<div onclick=\"a()\">\n\nb\n\n</div>",
            "[a [b](javascript:1) c](https://seedhouse.example)",
        ] {
            let shown = to_html(text);
            for bad in
                ["<script", "<img", "<div", "href=\"javascript:", "href=\"data:", "href=\"file:", "=\"a()"]
            {
                assert!(!shown.contains(bad), "{bad} in {shown}");
            }
            assert_eq!(shown.matches("<a ").count(), shown.matches("</a>").count(), "{shown}");
        }
        assert!(
            to_html("[x](https://seedhouse.example)").contains("<a href=\"https://seedhouse.example\">x</a>")
        );
    }
}
