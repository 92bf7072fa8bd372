//! How the program takes memory from the system.

use libmimalloc_sys::{mi_option_set_enabled, mi_option_t};
use mimalloc::MiMalloc;

/// Reading files of settings makes very many small pieces of memory, which the systems' own allocators are slow at.
#[global_allocator]
static ALLOCATOR: MiMalloc = MiMalloc;

/// Has memory go back to the system piece by piece as it becomes free. A command on 20,000 files holds half as much then (62 MB of
/// 124), in the same time.
#[expect(unsafe_code, reason = "the allocator's options have no other way in")]
pub fn hold_little() {
    // `mi_option_disallow_arena_alloc` (mimalloc.h of version 3).
    const NO_ARENAS: mi_option_t = 26;
    // SAFETY: it sets a number, and no other thread runs yet.
    unsafe { mi_option_set_enabled(NO_ARENAS, true) }
}
