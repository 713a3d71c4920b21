//! Names of fixed size for what was hashed.

/// The bytes that a digest begins with: a name for what was hashed, of fixed size.
pub(crate) fn first_bytes<const N: usize>(digest: &[u8]) -> [u8; N] {
    let mut out = [0; N];
    for (slot, byte) in out.iter_mut().zip(digest) {
        *slot = *byte;
    }
    out
}
