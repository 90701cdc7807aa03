//! Pages in the units of whoever reads them.
//!
//! Templates and the core speak metric. On its way out a page for a reader of the other system has each figure with a unit put into that
//! system, by `baricord_core::units`; a field says in `data-unit` what it takes, gets its unit and its value in the reader's, and sends what
//! it showed beside it, so that a value that nobody touched stays exactly what it was. Metric readers get pages as they were rendered.
//!
//! | in a template | what becomes of it |
//! |---|---|
//! | `<input data-unit="mm" value="1174.75">` | `value="46 1/4"`, with a hidden `was.NAME` |
//! | `<i data-unit="mm">mm</i>` | `in` |
//! | `data-dial` beside it | read in thousandths |
//! | `<text data-figure="0.25" data-of="mm" data-part="number">` | number or unit of a figure whose parts stand apart |
//! | `class="as-typed"`, `<q>`, “…” | somebody's words: left as they are |

use axum::body::{Body, to_bytes};
use axum::extract::Request;
use axum::http::{HeaderValue, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use baricord_core::units::{Unit, UnitSystem, field_text, field_unit, figure, sentence};
use lol_html::html_content::{ContentType, Element, TextChunk, TextType};
use lol_html::{HandlerResult, RewriteStrSettings, doc_text, element, rewrite_str};
use percent_encoding::{NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};
use std::borrow::Cow;
use std::cell::Cell;
use std::rc::Rc;

tokio::task_local! {
    static READER: Cell<UnitSystem>;
}

/// Who is signed in reads so. Said by the sign-in of the request, before its page is made.
pub fn reads(system: UnitSystem) {
    let _ = READER.try_with(|r| r.set(system));
}

/// Name under which a field sends what it showed.
pub fn was(name: &str) -> String {
    format!("was.{name}")
}

/// No page of the application is longer.
const LONGEST_PAGE: usize = 32 << 20;

/// Attributes that are read, by eyes or ears.
const READ_ALOUD: [&str; 4] = ["aria-label", "title", "alt", "placeholder"];

fn unit_of(symbol: &str) -> Option<Unit> {
    Unit::ALL.into_iter().find(|u| u.symbol() == symbol)
}

/// The unit of an element's `data-unit` for readers of the other system.
fn unit_here(el: &Element) -> Option<(Unit, Unit)> {
    let metric = unit_of(&el.get_attribute("data-unit")?)?;
    Some((metric, field_unit(metric, el.has_attribute("data-dial"), UnitSystem::Imperial)))
}

/// Steps of a field, where it has some, in its unit.
fn step(unit: Unit) -> &'static str {
    match unit {
        Unit::Thousandth => "0.5",
        Unit::Inch => "0.001",
        _ => "1",
    }
}

fn field(el: &mut Element) -> HandlerResult {
    let Some((metric, unit)) = unit_here(el) else { return Ok(()) };
    if el.has_attribute("data-step") {
        el.set_attribute("data-step", step(unit))?;
    }
    let (Some(name), Some(value)) = (el.get_attribute("name"), el.get_attribute("value")) else { return Ok(()) };
    let Ok(x) = value.trim().replace(',', ".").parse::<f64>() else { return Ok(()) };
    let shown = field_text(metric.to_base(x), unit);
    // A number that the page made holds nothing that HTML reads.
    el.set_attribute("value", &shown)?;
    let name = was(&name).replace(['"', '<', '&'], "");
    el.after(&format!(r#"<input type="hidden" name="{name}" value="{x}={shown}">"#), ContentType::Html);
    Ok(())
}

fn bare_unit(el: &mut Element) -> HandlerResult {
    if let Some((_, unit)) = unit_here(el) {
        el.set_inner_content(unit.symbol(), ContentType::Text);
    }
    Ok(())
}

fn parted(el: &mut Element) -> HandlerResult {
    let (Some(number), Some(unit)) = (el.get_attribute("data-figure"), el.get_attribute("data-of").and_then(|u| unit_of(&u)))
    else {
        return Ok(());
    };
    let (number, unit) = figure(&number, unit, UnitSystem::Imperial);
    let part = if el.get_attribute("data-part").as_deref() == Some("unit") { unit.symbol() } else { &number };
    el.set_inner_content(part, ContentType::Text);
    Ok(())
}

/// The press that changes the units leads back.
fn other_units(el: &mut Element) -> HandlerResult {
    el.set_attribute("value", UnitSystem::Metric.id())?;
    el.set_attribute("title", "Read mm, km/h and N·m")?;
    el.set_inner_content("Metric", ContentType::Text);
    Ok(())
}

/// A page in the units of the other system.
fn imperial(html: &str) -> Result<String, lol_html::errors::RewritingError> {
    // How deep in somebody's own words, or in something that is put in place whole.
    let kept = Rc::new(Cell::new(0_u32));
    let (opens, reads) = (kept.clone(), kept);
    let keep = move |el: &mut Element| -> HandlerResult {
        let (enter, leave) = (opens.clone(), opens.clone());
        if let Some(ends) = el.end_tag_handlers() {
            enter.set(enter.get() + 1);
            ends.push(Box::new(move |_| {
                leave.set(leave.get().saturating_sub(1));
                Ok(())
            }));
        }
        Ok(())
    };
    let aloud = |el: &mut Element| -> HandlerResult {
        for name in READ_ALOUD {
            let Some(text) = el.get_attribute(name) else { continue };
            if let Cow::Owned(other) = sentence(&text, UnitSystem::Imperial) {
                el.set_attribute(name, &other)?;
            }
        }
        Ok(())
    };
    let text = move |t: &mut TextChunk| -> HandlerResult {
        if reads.get() == 0
            && t.text_type() == TextType::Data
            && let Cow::Owned(other) = sentence(t.as_str(), UnitSystem::Imperial)
        {
            t.replace(&other, ContentType::Html);
        }
        Ok(())
    };
    let settings = RewriteStrSettings::new()
        .append_element_content_handler(element!("[aria-label], [title], [alt], [placeholder]", aloud))
        .append_element_content_handler(element!("input[data-unit]", field))
        .append_element_content_handler(element!(":not(input)[data-unit]", bare_unit))
        .append_element_content_handler(element!("[data-figure]", parted))
        .append_element_content_handler(element!("[data-other-units]", other_units))
        .append_element_content_handler(element!("q, .as-typed", keep))
        .append_document_content_handler(doc_text!(text));
    rewrite_str(html, settings)
}

fn is_page(response: &Response) -> bool {
    let kind = response.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok());
    kind.is_some_and(|k| k.starts_with("text/html"))
}

/// What went wrong, as a page reads it from its header.
fn problem_in_units(response: &mut Response) {
    let Some(said) = response.headers().get("x-problem").and_then(|v| v.to_str().ok()) else { return };
    let Ok(text) = percent_decode_str(said).decode_utf8() else { return };
    let other = utf8_percent_encode(&sentence(&text, UnitSystem::Imperial), NON_ALPHANUMERIC).to_string();
    if let Ok(v) = HeaderValue::from_str(&other) {
        response.headers_mut().insert("x-problem", v);
    }
}

async fn in_units(mut response: Response) -> Response {
    problem_in_units(&mut response);
    if !is_page(&response) {
        return response;
    }
    let (mut parts, body) = response.into_parts();
    let Ok(bytes) = to_bytes(body, LONGEST_PAGE).await else {
        return crate::error::PageError::Broken("a page could not be read".into()).into_response();
    };
    let other = std::str::from_utf8(&bytes).ok().and_then(|html| {
        let told = |e: &lol_html::errors::RewritingError| tracing::error!(error = %e, "a page stays metric");
        imperial(html).inspect_err(told).ok()
    });
    parts.headers.remove(header::CONTENT_LENGTH);
    Response::from_parts(parts, other.map_or_else(|| Body::from(bytes), Body::from))
}

/// Answers a request in the units of whoever is signed in.
pub async fn layer(request: Request, next: Next) -> Response {
    READER
        .scope(Cell::new(UnitSystem::Metric), async {
            let response = next.run(request).await;
            match READER.with(Cell::get) {
                UnitSystem::Metric => response,
                UnitSystem::Imperial => in_units(response).await,
            }
        })
        .await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_read_is_put_into_the_readers_units_and_what_was_typed_is_not() {
        for (metric, other) in [
            ("<p>worst at <b>88 km/h</b></p>", "<p>worst at <b>55 mph</b></p>"),
            ("<p>He says <q>it shakes at 90 km/h</q>, 90 km/h</p>", "<p>He says <q>it shakes at 90 km/h</q>, 56 mph</p>"),
            (r#"<p class="as-typed">60 <b>mm 20 mm</b></p>"#, r#"<p class="as-typed">60 <b>mm 20 mm</b></p>"#),
            (
                r#"<svg aria-label="30 to 80 km/h"><text>5 mm</text></svg>"#,
                r#"<svg aria-label="19 to 50 mph"><text>0.20 in</text></svg>"#,
            ),
            (
                r#"<p title="a &amp; b &quot;c&quot;, 5 mm">&lt; 5 mm</p>"#,
                r#"<p title="a &amp; b &quot;c&quot;, 0.20 in">&lt; 0.20 in</p>"#,
            ),
            ("<textarea>3 mm</textarea><script>5 mm</script>", "<textarea>3 mm</textarea><script>5 mm</script>"),
            (r#"<i data-unit="mm">mm</i>"#, r#"<i data-unit="mm">in</i>"#),
            (r#"<i data-unit="mm" data-dial>mm</i>"#, r#"<i data-unit="mm" data-dial>thou</i>"#),
            (
                r#"<text data-figure="0.25" data-of="mm" data-part="unit">mm</text>"#,
                r#"<text data-figure="0.25" data-of="mm" data-part="unit">in</text>"#,
            ),
            (
                r#"<input name="l" data-unit="mm" value="1174.75">"#,
                r#"<input name="l" data-unit="mm" value="46 1/4"><input type="hidden" name="was.l" value="1174.75=46 1/4">"#,
            ),
            (r#"<input name="l" data-unit="mm" value="">"#, r#"<input name="l" data-unit="mm" value="">"#),
        ] {
            assert_eq!(imperial(metric).unwrap(), other);
        }
    }

    #[test]
    fn markup_stands() {
        let page = "<!doctype html><p title=\"a &amp; b\">5 &lt; 6, “7 mm” &#39;x&#39;</p><!-- 5 mm -->";
        assert_eq!(imperial(page).unwrap(), page);
    }
}
