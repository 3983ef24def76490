//! Bodies of answers that several clients fetch.

use axum::body::Bytes;
use std::sync::Arc;

/// A body that is shared with others who fetch the same.
pub fn shared_bytes(bytes: Arc<Vec<u8>>) -> Bytes {
    struct SharedBytes(Arc<Vec<u8>>);
    impl AsRef<[u8]> for SharedBytes {
        fn as_ref(&self) -> &[u8] {
            &self.0
        }
    }
    Bytes::from_owner(SharedBytes(bytes))
}
