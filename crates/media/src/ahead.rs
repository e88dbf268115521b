//! Decoding on one thread while others work on what has been decoded.

use std::sync::mpsc::{channel, sync_channel};

use crate::block::Block;
use crate::error::Error;
use crate::reader::TakeReader;

/// Blocks that may wait between the two threads.
const WAITING: usize = 4;
/// Frames that are worth handing over; the packets of most formats hold fewer and are put together.
const ENOUGH_FRAMES: usize = 1 << 14;

impl TakeReader {
    /// Hands the frames `start..end`, block by block and in order, to `first` on this thread and
    /// then to `second` on another, while the next blocks are decoded on a third. A handful of
    /// blocks is in memory at a time.
    ///
    /// # Errors
    ///
    /// As [`read`](Self::read).
    ///
    /// # Panics
    ///
    /// If frames after `start` have been read already, or if the work panics.
    pub fn for_span_in_two(
        &mut self,
        start: u64,
        end: u64,
        mut first: impl FnMut(&Block),
        mut second: impl FnMut(&Block) + Send,
    ) -> Result<(), Error> {
        std::thread::scope(|scope| {
            let (full, decoded) = sync_channel::<Block>(WAITING);
            let (half_used, half_done) = sync_channel::<Block>(WAITING);
            let (used, empty) = channel::<Block>();
            scope.spawn(move || {
                for block in half_done {
                    second(&block);
                    let _ = used.send(block);
                }
            });
            let decoding = scope.spawn(move || {
                // Blocks go round: their memory is used again. Nobody listens any more only if the
                // work has panicked.
                let mut gathered = Block::default();
                let result = self.for_span(start, end, |block| {
                    if gathered.frames() == 0 && block.frames() >= ENOUGH_FRAMES {
                        let spare = empty.try_recv().unwrap_or_default();
                        let _ = full.send(std::mem::replace(block, spare));
                        return;
                    }
                    gathered.append(block);
                    if gathered.frames() >= ENOUGH_FRAMES {
                        let mut spare: Block = empty.try_recv().unwrap_or_default();
                        spare.clear();
                        let _ = full.send(std::mem::replace(&mut gathered, spare));
                    }
                });
                if gathered.frames() > 0 {
                    let _ = full.send(gathered);
                }
                result
            });
            for block in decoded {
                first(&block);
                let _ = half_used.send(block);
            }
            drop(half_used);
            decoding.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        })
    }
}
