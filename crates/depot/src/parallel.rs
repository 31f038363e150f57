//! Requests side by side.

use std::sync::Mutex;
use std::sync::PoisonError;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

/// Does something with each item on so many threads, and gives what came of them in their order; the first error ends it.
pub fn parallel<T: Sync, R: Send, E: Send>(
    jobs: usize,
    items: &[T],
    work: impl Fn(&T) -> Result<R, E> + Sync,
) -> Result<Vec<R>, E> {
    if items.len() <= 1 || jobs <= 1 {
        return items.iter().map(work).collect();
    }
    let (next, failed) = (AtomicUsize::new(0), AtomicBool::new(false));
    let done: Mutex<Vec<(usize, Result<R, E>)>> = Mutex::default();
    std::thread::scope(|scope| {
        for _ in 0..jobs.min(items.len()) {
            scope.spawn(|| {
                while !failed.load(Ordering::SeqCst) {
                    let at = next.fetch_add(1, Ordering::SeqCst);
                    let Some(item) = items.get(at) else { return };
                    let result = work(item);
                    if result.is_err() {
                        failed.store(true, Ordering::SeqCst);
                    }
                    done.lock().unwrap_or_else(PoisonError::into_inner).push((at, result));
                }
            });
        }
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(at, _)| *at);
    let mut all = Vec::with_capacity(done.len());
    for (_, result) in done {
        all.push(result?);
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn results_come_in_order_and_the_first_error_ends_it() {
        let items: Vec<u32> = (0..500).collect();
        assert_eq!(parallel(8, &items, |n| Ok::<_, ()>(n * 2)).unwrap(), items.iter().map(|n| n * 2).collect::<Vec<_>>());
        assert_eq!(parallel(8, &items, |n| if *n == 100 { Err(*n) } else { Ok(()) }), Err(100));
        assert_eq!(parallel(1, &[3], |n| Err::<(), _>(*n)), Err(3));
        assert_eq!(parallel(4, &[], |_: &u32| Ok::<u32, ()>(1)), Ok(vec![]));
    }
}
