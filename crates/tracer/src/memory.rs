//! How much memory there is, and large tables in large pages: rays jump about in them, and with pages of 4 KiB the processor's
//! table of pages is too small.

/// Bytes that can be had without swapping; none where the system does not say.
pub fn free_memory() -> Option<f64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = text.lines().find(|l| l.starts_with("MemAvailable:"))?;
    line.split_whitespace().nth(1)?.parse::<f64>().ok().map(|kb| 1024.0 * kb)
}

/// Moves a list into memory for which the system is asked to use pages of 2 MiB.
pub fn in_large_pages<T>(list: Vec<T>) -> Vec<T> {
    const LARGE: usize = 2 << 20;
    if size_of_val(&list[..]) < 2 * LARGE {
        return list;
    }
    let mut moved: Vec<T> = Vec::with_capacity(list.len());
    #[cfg(target_os = "linux")]
    {
        const PAGE: usize = 4096;
        let (start, bytes) = (moved.as_ptr() as usize, list.len() * size_of::<T>());
        let first = start.next_multiple_of(PAGE);
        // SAFETY: whole pages within an allocation of our own, which nothing was written to yet. It is only advice: where
        // it fails, nothing changes.
        unsafe { libc::madvise(first as *mut libc::c_void, start + bytes - first, libc::MADV_HUGEPAGE) };
    }
    moved.extend(list);
    moved
}
