use axum::http::{HeaderValue, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../web/dist"]
struct Pages;

/// A file of the front end; its start page for every other address, which the front end then reads.
pub async fn page(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    match Pages::get(path) {
        Some(file) => {
            // Files in assets/ carry a hash of their content in their name.
            let keep = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
            let kind = HeaderValue::from_str(file.metadata.mimetype())
                .unwrap_or(HeaderValue::from_static("application/octet-stream"));
            ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, HeaderValue::from_static(keep))], file.data)
                .into_response()
        }
        None => match Pages::get("index.html") {
            Some(start) => {
                ([(header::CONTENT_TYPE, "text/html; charset=utf-8"), (header::CACHE_CONTROL, "no-cache")], start.data)
                    .into_response()
            }
            None => (StatusCode::NOT_FOUND, "The pages are not built into this program. Build them with: ./run build")
                .into_response(),
        },
    }
}
