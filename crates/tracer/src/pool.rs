//! Rendering has its own threads at lower priority, so that the server and the page stay alive beside it.

use fault::Fault;
use std::sync::OnceLock;

/// Processors that this program may use; asked of the system once, which reads files for it.
pub fn cores() -> usize {
    static CORES: OnceLock<usize> = OnceLock::new();
    *CORES.get_or_init(|| std::thread::available_parallelism().map_or(1, |n| n.get()))
}

/// A pool of `threads` low-priority threads for rendering.
pub fn own_pool(threads: usize) -> Result<rayon::ThreadPool, Fault> {
    pool(threads, "render", true)
}

/// A pool at normal priority for what a person waits for: pictures on the screen must not queue up behind a render.
pub fn screen_pool() -> Result<rayon::ThreadPool, Fault> {
    pool(cores(), "screen", false)
}

/// Lets the calling thread work in the background from now on.
pub fn lower_priority() {
    // SAFETY: plain system calls about the calling thread; a refusal leaves the priority as it is.
    #[cfg(target_os = "linux")]
    unsafe {
        let thread = libc::syscall(libc::SYS_gettid) as libc::id_t;
        libc::setpriority(libc::PRIO_PROCESS, thread, 10);
    }
}

fn pool(threads: usize, name: &'static str, low: bool) -> Result<rayon::ThreadPool, Fault> {
    rayon::ThreadPoolBuilder::new()
        .num_threads(threads)
        .thread_name(move |i| format!("{name}-{i}"))
        .start_handler(move |_| {
            if !low {
                return;
            }
            lower_priority();
        })
        .build()
        .map_err(|e| Fault::internal(e.to_string(), "threads"))
}

/// Time that the calling thread has spent on a processor, in nanoseconds.
pub fn thread_time() -> u64 {
    let mut t = libc::timespec { tv_sec: 0, tv_nsec: 0 };
    // SAFETY: writes into the local struct only.
    unsafe { libc::clock_gettime(libc::CLOCK_THREAD_CPUTIME_ID, &mut t) };
    t.tv_sec as u64 * 1_000_000_000 + t.tv_nsec as u64
}
