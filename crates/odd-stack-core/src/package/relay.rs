//! Lets one thread unpack while others take: contents of a stream that can only be unpacked from
//! front to back are handed over in chunks, so that hashing and writing do not hold it up.
//!
//! Small contents go in batches, since waking a thread for each would cost more than taking it. At
//! most [`QUEUED`] batches wait, and [`CHUNKS`] chunks of each content that is being taken: some
//! megabytes, whatever the sizes of the contents.

use std::io::{self, Read, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, PoisonError};

use super::archive_file::fill;
use super::delivery::{Delivery, Halt, WantedMembers};

const CHUNK_BYTES: usize = 256 << 10;
const CHUNKS: usize = 8;
const QUEUED: usize = 16;
/// A batch is passed on when it has so many contents, or a chunk's worth of bytes.
const BATCH: usize = 64;

/// The kind of error of a content whose unpacking failed; whoever unpacks has noted why.
pub(super) const BROKEN_OFF: io::ErrorKind = io::ErrorKind::ConnectionAborted;

enum Message {
    Chunk(Vec<u8>),
    /// The content's end; without it, it was broken off.
    End,
}

struct Job {
    wanted: WantedMembers,
    first: Vec<u8>,
    /// More, unless `first` is all.
    rest: Option<Receiver<Message>>,
}

#[derive(Default)]
struct Batch {
    jobs: Vec<Job>,
    bytes: usize,
}

/// Hands contents over; can be owned by whoever unpacks.
#[derive(Clone)]
pub(super) struct Relay {
    batches: SyncSender<Batch>,
    /// The batch that is being filled.
    filling: Arc<Mutex<Batch>>,
    has_halted: Arc<AtomicBool>,
}

/// Runs `unpack` on this thread with a relay whose contents are delivered on others.
pub(super) fn relayed(
    delivery: &Delivery<'_>,
    unpack: impl FnOnce(&Relay) -> Result<(), Halt>,
) -> Result<(), Halt> {
    let takers = rayon::current_num_threads().saturating_sub(1).clamp(1, 4);
    let (batches, queue) = sync_channel::<Batch>(QUEUED);
    let queue = Arc::new(Mutex::new(queue));
    let relay = Relay { batches, filling: Arc::default(), has_halted: Arc::default() };
    std::thread::scope(|scope| {
        let takers: Vec<_> = (0..takers)
            .map(|_| {
                let (queue, has_halted) = (queue.clone(), relay.has_halted.clone());
                scope.spawn(move || take_all(delivery, &queue, &has_halted))
            })
            .collect();
        drop(queue);
        let unpacked = unpack(&relay);
        // When nobody takes any more, they have noted why.
        if unpacked.is_err() || relay.flush().is_err() {
            relay.has_halted.store(true, Ordering::Relaxed);
        }
        drop(relay);
        let taken: Vec<_> = takers.into_iter().map(|taker| taker.join().unwrap_or(Err(Halt))).collect();
        taken.into_iter().collect::<Result<(), Halt>>()?;
        unpacked
    })
}

fn take_all(
    delivery: &Delivery<'_>,
    queue: &Mutex<Receiver<Batch>>,
    has_halted: &AtomicBool,
) -> Result<(), Halt> {
    loop {
        let next = queue.lock().unwrap_or_else(PoisonError::into_inner).recv();
        let Ok(batch) = next else { return Ok(()) };
        for job in batch.jobs {
            if has_halted.load(Ordering::Relaxed) {
                break;
            }
            let mut content = Content { chunk: job.first, at: 0, rest: job.rest };
            if let Err(halt) = delivery.deliver(&job.wanted, &mut content) {
                has_halted.store(true, Ordering::Relaxed);
                // The queue is emptied, so that whoever unpacks is not left waiting.
                drop(content);
                while queue.lock().unwrap_or_else(PoisonError::into_inner).recv().is_ok() {}
                return Err(halt);
            }
        }
    }
}

impl Relay {
    /// Reads one content to its end and hands it over; a failure is noted in `delivery`.
    pub(super) fn send(
        &self,
        delivery: &Delivery<'_>,
        wanted: &WantedMembers,
        content: &mut dyn Read,
    ) -> Result<(), Halt> {
        delivery.go_on()?;
        let mut writer = self.writer(wanted.clone());
        loop {
            let size = usize::try_from(wanted.size_bytes).unwrap_or(CHUNK_BYTES);
            let mut chunk = vec![0; size.saturating_add(1).min(CHUNK_BYTES)];
            // Noted before the writer is dropped: whoever takes the rest halts as soon as that breaks off.
            let filled = fill(content, &mut chunk).map_err(|error| delivery.fail(wanted, error))?;
            let is_last = filled < chunk.len();
            chunk.truncate(filled);
            // When nobody takes any more, they have noted why.
            writer.push(chunk, is_last).map_err(|_| Halt)?;
            if is_last {
                return Ok(());
            }
        }
    }

    /// Takes one content as it is written; it is whole when the writer is finished.
    pub(super) fn writer(&self, wanted: WantedMembers) -> RelayWriter {
        RelayWriter { relay: self.clone(), wanted, chunk: Vec::new(), rest: None, is_ended: false }
    }

    /// Puts a content into the batch, and passes that on when it is full.
    fn enqueue(&self, job: Job) -> io::Result<()> {
        let mut filling = self.filling.lock().unwrap_or_else(PoisonError::into_inner);
        let is_long = job.rest.is_some();
        filling.bytes += job.first.len();
        filling.jobs.push(job);
        if !is_long && filling.jobs.len() < BATCH && filling.bytes < CHUNK_BYTES {
            return Ok(());
        }
        let batch = std::mem::take(&mut *filling);
        drop(filling);
        self.batches.send(batch).map_err(|_| nobody_takes())
    }

    fn flush(&self) -> io::Result<()> {
        let batch = std::mem::take(&mut *self.filling.lock().unwrap_or_else(PoisonError::into_inner));
        self.batches.send(batch).map_err(|_| nobody_takes())
    }

    /// Whether taking has ended before all was taken.
    pub(super) fn has_halted(&self) -> bool {
        self.has_halted.load(Ordering::Relaxed)
    }
}

fn nobody_takes() -> io::Error {
    io::Error::new(io::ErrorKind::BrokenPipe, "nobody takes the contents")
}

/// One content on its way; when it is dropped unfinished, so is the content.
pub(super) struct RelayWriter {
    relay: Relay,
    wanted: WantedMembers,
    chunk: Vec<u8>,
    rest: Option<SyncSender<Message>>,
    is_ended: bool,
}

impl RelayWriter {
    /// Says that the content is whole.
    pub(super) fn finish(mut self) -> io::Result<()> {
        let chunk = std::mem::take(&mut self.chunk);
        self.push(chunk, true)
    }

    fn push(&mut self, chunk: Vec<u8>, is_last: bool) -> io::Result<()> {
        if self.relay.has_halted() {
            return Err(nobody_takes());
        }
        self.is_ended |= is_last;
        let Some(rest) = &self.rest else {
            let (sender, receiver) = match is_last {
                true => (None, None),
                false => {
                    let (sender, receiver) = sync_channel(CHUNKS);
                    (Some(sender), Some(receiver))
                }
            };
            self.rest = sender;
            let job = Job { wanted: self.wanted.clone(), first: chunk, rest: receiver };
            return self.relay.enqueue(job);
        };
        rest.send(Message::Chunk(chunk)).map_err(|_| nobody_takes())?;
        if is_last {
            rest.send(Message::End).map_err(|_| nobody_takes())?;
        }
        Ok(())
    }
}

impl Write for RelayWriter {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.chunk.capacity() == 0 {
            let size = usize::try_from(self.wanted.size_bytes).unwrap_or(CHUNK_BYTES);
            self.chunk.reserve_exact(size.clamp(bytes.len().min(CHUNK_BYTES), CHUNK_BYTES));
        }
        let count = bytes.len().min(CHUNK_BYTES - self.chunk.len());
        self.chunk.extend_from_slice(&bytes[..count]);
        if self.chunk.len() == CHUNK_BYTES {
            let chunk = std::mem::take(&mut self.chunk);
            self.push(chunk, false)?;
        }
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// A content as its taker reads it.
struct Content {
    chunk: Vec<u8>,
    at: usize,
    rest: Option<Receiver<Message>>,
}

impl Read for Content {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.at == self.chunk.len() {
            let Some(rest) = &self.rest else { return Ok(0) };
            match rest.recv() {
                Ok(Message::Chunk(chunk)) => {
                    self.chunk = chunk;
                    self.at = 0;
                }
                Ok(Message::End) => self.rest = None,
                Err(_) => return Err(io::Error::new(BROKEN_OFF, "it breaks off")),
            }
        }
        let count = buffer.len().min(self.chunk.len() - self.at);
        buffer[..count].copy_from_slice(&self.chunk[self.at..self.at + count]);
        self.at += count;
        Ok(count)
    }
}

#[cfg(test)]
mod tests {
    use super::super::PackageError;
    use super::*;
    use crate::observer::Silent;
    use std::sync::atomic::AtomicUsize;

    const SIZES: [usize; 7] = [0, 1, 3000, CHUNK_BYTES - 1, CHUNK_BYTES, CHUNK_BYTES * 20 + 7, 12];

    fn wanted(number: usize, size_bytes: usize) -> WantedMembers {
        let name = format!("member {number}").into();
        WantedMembers { source: number, content: number, size_bytes: size_bytes as u64, name }
    }

    fn bytes(number: usize, size: usize) -> Vec<u8> {
        (0..size).map(|at| (at * 31 + number) as u8).collect()
    }

    #[test]
    fn everything_arrives_whole_however_it_is_handed_over() {
        let taken = Mutex::new(Vec::new());
        let take = |wanted: &WantedMembers, content: &mut dyn Read| {
            let mut all = Vec::new();
            content.read_to_end(&mut all).map_err(|_| Halt)?;
            taken.lock().unwrap().push((wanted.source, all));
            Ok(())
        };
        let delivery = Delivery::new("p", &take, &Silent, false);
        let done = relayed(&delivery, |relay| {
            for (number, size) in SIZES.into_iter().enumerate() {
                relay.send(&delivery, &wanted(number, size), &mut bytes(number, size).as_slice())?;
                let mut writer = relay.writer(wanted(number + 100, size));
                for part in bytes(number, size).chunks(70_000) {
                    writer.write_all(part).map_err(|_| Halt)?;
                }
                writer.finish().map_err(|_| Halt)?;
            }
            Ok(())
        });
        assert!(done.is_ok() && delivery.failure().is_none());
        let mut taken = taken.into_inner().unwrap();
        taken.sort();
        let expected = |hundred: usize| {
            SIZES.into_iter().enumerate().map(move |(n, size)| (n + hundred, bytes(n, size)))
        };
        assert_eq!(taken, expected(0).chain(expected(100)).collect::<Vec<_>>());
    }

    #[test]
    fn a_broken_content_is_told_by_its_own_reason() {
        struct Breaks(usize);
        impl Read for Breaks {
            fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
                let count = buffer.len().min(self.0);
                self.0 -= count;
                if count == 0 { Err(io::Error::other("its teeth are worn")) } else { Ok(count) }
            }
        }
        let take = |_: &WantedMembers, content: &mut dyn Read| {
            io::copy(content, &mut io::sink()).map(drop).map_err(|_| Halt)
        };
        for broken_at in [10, CHUNK_BYTES * 3] {
            let delivery = Delivery::new("p", &take, &Silent, false);
            let done = relayed(&delivery, |relay| {
                relay.send(&delivery, &wanted(7, CHUNK_BYTES * 4), &mut Breaks(broken_at))
            });
            assert!(done.is_err());
            let Some(PackageError::Member { member, source, .. }) = delivery.failure() else { panic!() };
            assert_eq!((member.as_str(), source.to_string().as_str()), ("member 7", "its teeth are worn"));
        }
    }

    #[test]
    fn whoever_unpacks_is_not_left_waiting_when_taking_fails() {
        let count = AtomicUsize::new(0);
        let take = |_: &WantedMembers, _: &mut dyn Read| {
            let is_last = count.fetch_add(1, Ordering::SeqCst) == 40;
            if is_last { Err(Halt) } else { Ok(()) }
        };
        let delivery = Delivery::new("p", &take, &Silent, false);
        let done = relayed(&delivery, |relay| {
            for number in 0..100_000 {
                relay.send(&delivery, &wanted(number, 0), &mut io::empty())?;
            }
            relay.send(&delivery, &wanted(0, 1 << 30), &mut io::repeat(1).take(1 << 30))
        });
        assert!(done.is_err() && delivery.failure().is_none(), "the taker has the reason");
        assert!(count.into_inner() < 1000);
    }
}
