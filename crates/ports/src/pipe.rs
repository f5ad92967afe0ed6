//! A queue between two threads that holds so many bytes at most, whatever the number of its
//! pieces: many small ones keep both threads busy, and a very large one waits alone.

use fernweh_core::limits;
use std::collections::VecDeque;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};

struct Queue<T> {
    pieces: VecDeque<(T, usize)>,
    weight: usize,
    /// Whether one of the two ends is gone.
    closed: bool,
}

struct Shared<T> {
    queue: Mutex<Queue<T>>,
    changed: Condvar,
}

impl<T> Shared<T> {
    fn lock(&self) -> MutexGuard<'_, Queue<T>> {
        self.queue.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn wait<'a>(&self, queue: MutexGuard<'a, Queue<T>>) -> MutexGuard<'a, Queue<T>> {
        self.changed.wait(queue).unwrap_or_else(PoisonError::into_inner)
    }

    fn close(&self) {
        self.lock().closed = true;
        self.changed.notify_all();
    }
}

/// The end into which pieces go.
pub struct Inlet<T>(Arc<Shared<T>>);

/// The end at which they come out, in the same order.
pub struct Outlet<T>(Arc<Shared<T>>);

/// A new queue.
pub fn pipe<T>() -> (Inlet<T>, Outlet<T>) {
    let queue = Queue { pieces: VecDeque::new(), weight: 0, closed: false };
    let shared = Arc::new(Shared { queue: Mutex::new(queue), changed: Condvar::new() });
    (Inlet(shared.clone()), Outlet(shared))
}

impl<T> Inlet<T> {
    /// Hands over a piece of so many bytes, as soon as there is room; `false` if nobody takes
    /// it any more.
    pub fn send(&self, piece: T, weight: usize) -> bool {
        let mut queue = self.0.lock();
        while !queue.closed && !queue.pieces.is_empty() && queue.weight + weight > limits::PIPE {
            queue = self.0.wait(queue);
        }
        if queue.closed {
            return false;
        }
        queue.weight += weight;
        queue.pieces.push_back((piece, weight));
        self.0.changed.notify_all();
        true
    }
}

impl<T> Iterator for Outlet<T> {
    type Item = T;

    /// The next piece, as soon as there is one; none if nobody hands over any more.
    fn next(&mut self) -> Option<T> {
        let mut queue = self.0.lock();
        while !queue.closed && queue.pieces.is_empty() {
            queue = self.0.wait(queue);
        }
        let (piece, weight) = queue.pieces.pop_front()?;
        queue.weight -= weight;
        self.0.changed.notify_all();
        Some(piece)
    }
}

impl<T> Drop for Inlet<T> {
    fn drop(&mut self) {
        self.0.close();
    }
}

impl<T> Drop for Outlet<T> {
    fn drop(&mut self) {
        self.0.close();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::sync::atomic::{AtomicUsize, Ordering};

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(32))]
        #[test]
        fn pieces_of_any_size_come_out_in_order_and_few_bytes_wait(
            weights in prop::collection::vec(0..2 * limits::PIPE, 0..60)
        ) {
            let (inlet, outlet) = pipe();
            let waiting = AtomicUsize::new(0);
            let largest = weights.iter().copied().max().unwrap_or(0).max(limits::PIPE);
            let found: Vec<usize> = std::thread::scope(|scope| {
                scope.spawn(|| {
                    for weight in &weights {
                        assert!(inlet.send(*weight, *weight));
                        waiting.store(inlet.0.lock().weight, Ordering::Relaxed);
                        assert!(waiting.load(Ordering::Relaxed) <= largest);
                    }
                    drop(inlet);
                });
                outlet.collect()
            });
            prop_assert_eq!(found, weights);
        }
    }

    #[test]
    fn who_hands_over_learns_that_nobody_takes_it() {
        let (inlet, mut outlet) = pipe();
        assert!(inlet.send(1, limits::PIPE));
        std::thread::scope(|scope| {
            let waits = scope.spawn(|| inlet.send(2, 1));
            assert_eq!(outlet.next(), Some(1));
            drop(outlet);
            // Whether the second piece found room before is a matter of luck; the third does not.
            let _ = waits.join();
            assert!(!inlet.send(3, 0));
        });
    }
}
