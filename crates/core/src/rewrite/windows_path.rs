//! Paths of systems that name drives by letters.

/// Whether a path begins with a drive.
pub(super) fn is_drive(path: &str) -> bool {
    let b = path.as_bytes();
    b.len() > 3 && b[0].is_ascii_alphabetic() && b[1] == b':' && matches!(b[2], b'\\' | b'/')
}

/// The parts of a path between its separators, the drive's letter first.
pub(super) fn segments(path: &str) -> Vec<&str> {
    let parts = path.split(['\\', '/', ':']);
    parts.filter(|part| !part.is_empty()).collect()
}
