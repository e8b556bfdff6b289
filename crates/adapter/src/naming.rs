//! Names of what Moorage makes in sources.

/// A name for something of a pipeline's: lower-case letters, digits and underscores, at most 57 bytes, another one for
/// every pipeline.
pub fn object_name(pipeline: &str) -> String {
    let plain: String = pipeline
        .chars()
        .map(|c| if c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_' { c } else { '_' })
        .take(40)
        .collect();
    if plain == pipeline {
        return format!("moorage_{plain}");
    }
    // Another name must not fold into the same one (FNV-1a, 32 bits).
    let hash = pipeline.bytes().fold(0x811c_9dc5_u32, |h, b| (h ^ u32::from(b)).wrapping_mul(0x0100_0193));
    format!("moorage_{plain}_{hash:08x}")
}
