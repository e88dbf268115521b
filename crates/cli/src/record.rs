//! What a result says about the take it comes from.

use serde::Serialize;

/// A take, its channel and its span.
#[derive(Serialize)]
pub(crate) struct TakeRecord {
    pub(crate) path: String,
    pub(crate) blake3: String,
    pub(crate) sample_rate_hz: f64,
    pub(crate) channels: usize,
    pub(crate) duration_s: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) channel: Option<String>,
    pub(crate) span: SpanRecord,
}

/// A sound that goes on: it has no end yet, and no hash.
#[derive(Serialize)]
pub(crate) struct StreamRecord {
    pub(crate) path: String,
    pub(crate) sample_rate_hz: f64,
    pub(crate) channels: usize,
    pub(crate) channel: String,
    pub(crate) span: SpanRecord,
}

/// A stretch of time, in seconds from the start of the take.
#[derive(Serialize)]
pub(crate) struct SpanRecord {
    pub(crate) from_s: f64,
    pub(crate) to_s: f64,
}
