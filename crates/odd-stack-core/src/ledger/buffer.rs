//! One buffer a thread, for contents that are held whole, one after the other.

use std::cell::Cell;

/// Lends this thread's buffer, with whatever the last one left in it. Getting fresh memory for each of very many contents costs more
/// than hashing them. Inside of `act` another one is lent.
pub(super) fn with_buffer<T>(act: impl FnOnce(&mut Vec<u8>) -> T) -> T {
    /// What a thread keeps at most.
    const MOST_BYTES: usize = 4 << 20;
    thread_local! {
        static BUFFER: Cell<Vec<u8>> = const { Cell::new(Vec::new()) };
    }
    let mut buffer = BUFFER.take();
    let done = act(&mut buffer);
    if buffer.capacity() <= MOST_BYTES {
        BUFFER.set(buffer);
    }
    done
}
