//! Whose turn it is to work. Many tests wait for something that they share, a cluster for one, in threads of their own; of those
//! that have a project no more work at once than the machine bears.

use std::cell::RefCell;
use std::sync::{Arc, Condvar, Mutex, PoisonError, Weak};

/// A place among those that work at once, until it is dropped.
pub(crate) struct Turn(());

static AT_WORK: Mutex<usize> = Mutex::new(0);
static GIVEN_BACK: Condvar = Condvar::new();

thread_local! {
    /// The turn that a test has: all its projects share it, or tests with two of them would wait for one another.
    static OWN: RefCell<Weak<Turn>> = const { RefCell::new(Weak::new()) };
}

impl Turn {
    /// Waits until it is this thread's turn, if it has none.
    pub(crate) fn of_this_thread() -> Arc<Turn> {
        let own = OWN.with_borrow(Weak::upgrade);
        own.unwrap_or_else(|| {
            let turn = Arc::new(Turn::wait());
            OWN.set(Arc::downgrade(&turn));
            turn
        })
    }

    fn wait() -> Turn {
        // Even on few processors: a test of the built program is not busy all the time.
        let most = std::thread::available_parallelism().map_or(1, usize::from).max(4);
        let at_work = AT_WORK.lock().unwrap_or_else(PoisonError::into_inner);
        let mut at_work = GIVEN_BACK.wait_while(at_work, |n| *n >= most).unwrap_or_else(PoisonError::into_inner);
        *at_work += 1;
        Turn(())
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        *AT_WORK.lock().unwrap_or_else(PoisonError::into_inner) -= 1;
        GIVEN_BACK.notify_one();
    }
}
