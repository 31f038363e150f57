//! Ctrl-C: the first asks stages to end, the second ends them at once.

use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};

use textum_core::depot::Interrupt;
use textum_core::event::CancelToken;

static CANCEL: CancelToken = CancelToken::new();
/// What is going on with depots ends too.
static EXCHANGE: OnceLock<Interrupt> = OnceLock::new();
static CAUGHT: AtomicBool = AtomicBool::new(false);

/// From now on SIGINT, SIGTERM and SIGHUP pull the token that is returned.
pub fn catch_interrupts() -> &'static CancelToken {
    use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
    if !CAUGHT.swap(true, Ordering::SeqCst)
        && let Ok(mut signals) = signal_hook::iterator::Signals::new([SIGINT, SIGTERM, SIGHUP])
    {
        std::thread::spawn(move || {
            for _ in signals.forever() {
                CANCEL.ask();
                if let Some(exchange) = EXCHANGE.get() {
                    exchange.ask();
                }
            }
        });
    }
    &CANCEL
}

/// From now on they end what is going on with depots as well.
pub fn interrupt_too(exchange: &Interrupt) {
    let _ = EXCHANGE.set(exchange.clone());
    catch_interrupts();
}
