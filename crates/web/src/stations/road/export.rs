//! What leaves the road station as a file: a map as picture or numbers, levels of every order, the whole analysis; and how a drawing
//! is taken away.

use crate::App;
use crate::auth::Member;
use crate::charts::{self, Axes};
use crate::error::PageError;
use crate::stations::road::ladder::rungs_of;
use crate::stations::road::map_view::{Look, RequestedMap, asked, hz_per_kmh};
use crate::table_export::TableExport;
use crate::work_limits::{Exports, Turn};
use axum::Router;
use axum::extract::Path;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use baricord_core::analysis::OrderMap;
use baricord_core::error::Problem;
use baricord_store::Scope;
use uuid::Uuid;

/// Something to be kept under a name.
pub fn attachment(kind: &'static str, name: &str, body: impl IntoResponse) -> Response {
    let safe: String = name.chars().map(|c| if c.is_ascii_alphanumeric() || ".-".contains(c) { c } else { '-' }).collect();
    ([(header::CONTENT_TYPE, kind.to_string()), (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{safe}\""))], body)
        .into_response()
}

/// Styles that a picture carries with it when it leaves: ink on white.
const STYLE: &str = "text{font:13px 'Barlow Condensed','Arial Narrow','Liberation Sans Narrow',sans-serif;fill:#1d2b33}.figure{font-size:13px}.end{text-anchor:end}.mid{text-anchor:middle}\
                     .frame,.hair,.order{fill:none;stroke:#1d2b33}.hair{stroke-width:.7}.touch{fill:none}.quiet{opacity:.6}.shaft{stroke-dasharray:9 5}.half{stroke-dasharray:2 4}\
                     .engine{stroke-dasharray:10 4 2 4}.bearing{stroke-dasharray:5 3}.chosen{stroke-width:2}.spot{fill:none;stroke:#e8b200;stroke-width:3}\
                     .error{fill:#a9aca6;opacity:.35}.felt{fill:none;stroke:#2e6b4f;stroke-dasharray:5 4}.here{stroke:#e8b200;stroke-width:2}.reading{fill:#1d2b33}";

/// A drawing that carries its styles, on white.
pub fn on_white(inner: &str, width: u32, height: u32) -> String {
    format!(
        r##"<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{height}"><style>{STYLE}</style><rect width="{width}" height="{height}" fill="#fff"/>{inner}</svg>"##
    )
}

/// Amplitudes of a map, a row for each order, a column for each speed.
async fn csv(r: RequestedMap) -> Result<Response, PageError> {
    let map = &r.map;
    let speed = |c: usize| format!("{} km/h", map.speed_from + map.speed_step * (c as f64 + 0.5));
    let first = if r.look.over_hz() { "Hz" } else { "order" };
    let mut table = TableExport::new(std::iter::once(first.to_string()).chain((0..map.columns).map(speed)))?;
    for row in 0..map.rows {
        let up = format!("{:.5}", map.order_step * (row as f64 + 0.5));
        table.row(std::iter::once(up).chain((0..map.columns).map(|c| format!("{:.5}", map.amplitude(row, c)))))?;
    }
    Ok(attachment("text/csv; charset=utf-8", &format!("{}-{}-map.csv", r.run, r.channel), table.finish()?))
}

/// The ink in view as a picture, upright.
fn picture(map: &OrderMap, axes: &Axes, width: usize, height: usize) -> Vec<u8> {
    let at = |x: usize, y: usize| {
        let kmh = axes.speed.0 + (axes.speed.1 - axes.speed.0) * (x as f64 + 0.5) / width as f64;
        let up = axes.up.1 - (axes.up.1 - axes.up.0) * (y as f64 + 0.5) / height as f64;
        let (c, r) = (((kmh - map.speed_from) / map.speed_step) as usize, (up / map.order_step) as usize);
        let v = f64::from(map.ink.get(r * map.columns + c).copied().unwrap_or(0));
        // The same ink as on the page.
        255 - (v * v * v / 65025.0 * 1.5 + v * 0.12).min(255.0) as u8
    };
    (0..height).flat_map(|y| (0..width).map(move |x| (x, y))).map(|(x, y)| at(x, y)).collect()
}

fn png(grey: &[u8], width: usize, height: usize) -> Result<Vec<u8>, Problem> {
    let failed = |e: png::EncodingError| Problem::new("cannot-write", e.to_string());
    let mut out = vec![];
    let mut e = png::Encoder::new(&mut out, width as u32, height as u32);
    e.set_color(png::ColorType::Grayscale);
    e.set_depth(png::BitDepth::Eight);
    e.write_header().and_then(|mut w| w.write_image_data(grey)).map_err(failed)?;
    Ok(out)
}

async fn export_png(r: RequestedMap) -> Result<Response, PageError> {
    let map = &r.map;
    let axes = r.look.axes(Axes::new(map));
    Ok(attachment("image/png", &format!("{}-{}-map.png", r.run, r.channel), png(&picture(map, &axes, 1380, 600), 1380, 600)?))
}

/// A map as a still picture: its ink as PNG, and the frame with the ladder that stands around it.
pub async fn still(s: &mut Scope, id: Uuid, run: &str, channel: &str, l: &Look) -> Result<(Vec<u8>, String), PageError> {
    let stored = s.case(id).await?;
    let case = stored.case();
    let (a, _) = s.analysis(id).await?.ok_or(PageError::NotFound)?;
    let map = asked(s, id, &case.vehicle, &a, run, channel, l).await?.ok_or(PageError::NotFound)?;
    let hz = if l.over_hz() { Some(hz_per_kmh(&case.vehicle, &a, run)?) } else { None };
    let axes = l.axes(Axes { hz_per_kmh: hz, ..Axes::new(&map) });
    let frame = charts::map_frame(&axes, &rungs_of(case, &a, run)?, None);
    Ok((png(&picture(&map, &axes, 1380, 600), 1380, 600)?, frame))
}

async fn export_svg(r: RequestedMap) -> Result<Response, PageError> {
    use base64::Engine;
    let (ink, frame) = still(&mut r.member.scope().await?, r.case, &r.run, &r.channel, &r.look).await?;
    let (px, py, pw, ph) = charts::PLOT;
    let ink = base64::engine::general_purpose::STANDARD.encode(ink);
    let picture = format!(
        r##"<image x="{px}" y="{py}" width="{pw}" height="{ph}" preserveAspectRatio="none" href="data:image/png;base64,{ink}"/>{frame}"##
    );
    Ok(attachment("image/svg+xml", &format!("{}-{}-map.svg", r.run, r.channel), on_white(&picture, 950, 340)))
}

/// Every order's level at every speed, all runs of a case.
async fn levels(m: Member, _turn: Turn<Exports>, Path(id): Path<Uuid>) -> Result<Response, PageError> {
    let mut s = m.scope().await?;
    s.case(id).await?;
    let (a, _) = s.analysis(id).await?.ok_or(PageError::NotFound)?;
    drop(s);
    let mut table = TableExport::new([
        "run",
        "channel",
        "base",
        "order",
        "order_sigma",
        "speed_kmh",
        "amplitude",
        "amplitude_sigma",
        "unit",
        "behind_pulse_deg",
        "behind_pulse_sigma_deg",
    ])?;
    for r in &a.recordings {
        for o in &r.orders {
            let base = o.base.words();
            let unit = o.unit.as_deref().unwrap_or("m/s2");
            for x in &o.levels {
                let phase = o.phase.iter().find(|p| p.speed_kmh == x.speed_kmh);
                let behind = phase
                    .map_or([String::new(), String::new()], |p| [format!("{:.1}", p.behind_deg), format!("{:.1}", p.sigma_deg)]);
                let of_line =
                    [r.id.clone(), o.channel.clone(), base.into(), format!("{:.5}", o.order), format!("{:.5}", o.order_sigma)];
                let level = [x.speed_kmh.to_string(), format!("{:.6}", x.amplitude), format!("{:.6}", x.sigma), unit.into()];
                table.row(of_line.iter().chain(&level).chain(&behind))?;
            }
        }
    }
    Ok(attachment("text/csv; charset=utf-8", "levels.csv", table.finish()?))
}

/// What all runs of a case say, as `analyze` prints it.
async fn analysis(m: Member, _turn: Turn<Exports>, Path(id): Path<Uuid>) -> Result<Response, PageError> {
    let mut s = m.scope().await?;
    s.case(id).await?;
    let (a, _) = s.analysis(id).await?.ok_or(PageError::NotFound)?;
    drop(s);
    let text = serde_json::to_string_pretty(&a).map_err(|e| PageError::Broken(e.to_string()))?;
    Ok(attachment("application/json", "analysis.json", text))
}

fn analysis_routes() -> Router<App> {
    Router::new().route("/cases/{id}/levels.csv", get(levels)).route("/cases/{id}/analysis.json", get(analysis))
}

/// Routes of what leaves.
pub fn routes() -> Router<App> {
    Router::new()
        .route("/cases/{id}/runs/{run}/{channel}/map.csv", get(csv))
        .route("/cases/{id}/runs/{run}/{channel}/map.png", get(export_png))
        .route("/cases/{id}/runs/{run}/{channel}/map.svg", get(export_svg))
        .merge(analysis_routes())
}
