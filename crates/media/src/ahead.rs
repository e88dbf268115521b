//! Decoding on one thread while another works on what has been decoded.

use std::sync::mpsc::{channel, sync_channel};

use crate::block::Block;
use crate::error::Error;
use crate::reader::TakeReader;

/// Blocks that may wait between the two threads.
const WAITING: usize = 4;

impl TakeReader {
    /// Hands the frames `start..end` to `work`, block by block and in order, while the next blocks
    /// are decoded on a thread of its own. A handful of blocks is in memory at a time.
    ///
    /// # Errors
    ///
    /// As [`read`](Self::read).
    ///
    /// # Panics
    ///
    /// If frames after `start` have been read already, or if `work` panics.
    pub fn for_span_ahead(
        &mut self,
        start: u64,
        end: u64,
        mut work: impl FnMut(&Block),
    ) -> Result<(), Error> {
        std::thread::scope(|scope| {
            let (full, decoded) = sync_channel::<Block>(WAITING);
            let (used, empty) = channel::<Block>();
            let decoding = scope.spawn(move || {
                self.for_span(start, end, |block| {
                    // Blocks go round: their memory is used again.
                    let mut spare = empty.try_recv().unwrap_or_default();
                    std::mem::swap(block, &mut spare);
                    // Nobody listens any more only if `work` has panicked.
                    let _ = full.send(spare);
                })
            });
            for block in decoded {
                work(&block);
                let _ = used.send(block);
            }
            decoding.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        })
    }
}
