//! The connections that are open: how many each address may have, which one goes when there are too many, and which are given up
//! because nothing moves on them.
//!
//! A connection is *idle* while no request of it is being answered. One that sent no request yet has less time than one that did. A
//! client that reads its answer below a minimum rate is disconnected, too. The handlers that read a body watch its rate.

use std::collections::{BTreeMap, HashMap};
use std::io;
use std::net::IpAddr;
use std::pin::Pin;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use axum::body::{Body, Bytes, HttpBody};
use hyper::body::{Frame, SizeHint};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::sync::Notify;

use crate::limits::Limits;

/// Most connections at once.
const MAX_CONNECTIONS: usize = 4096;

/// What share of them is for addresses that have almost none yet: one in so many.
const RESERVE: usize = 8;

/// Files that are open beside connections: one for what each is given, and some of the server's own.
const OWN_FILES: usize = 64;

/// How many connections an address may have that takes one of the reserve.
const SHARE_FLOOR: usize = 4;

/// Slowest that a client may send or take bytes, a second.
pub const MIN_RATE: u64 = 1024;

/// All open connections.
pub struct Connections {
    room: usize,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    /// By number; the lowest came first.
    open: BTreeMap<u64, Open>,
    by_address: HashMap<Address, usize>,
    next: u64,
}

struct Open {
    address: Address,
    activity: Arc<Activity>,
}

/// Which client it is, as far as known: an address, or the network of one where anybody has many.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Address {
    V4([u8; 4]),
    /// The first 64 bits, which one line has (RFC 6177).
    V6([u8; 8]),
}

impl From<IpAddr> for Address {
    fn from(address: IpAddr) -> Self {
        match address.to_canonical() {
            IpAddr::V4(address) => Self::V4(address.octets()),
            IpAddr::V6(address) => {
                let mut network = [0; 8];
                network.copy_from_slice(&address.octets()[..8]);
                Self::V6(network)
            }
        }
    }
}

/// A connection that was let in, until this is dropped.
pub struct Admitted {
    connections: Arc<Connections>,
    number: u64,
    /// What goes on on it.
    pub activity: Arc<Activity>,
}

impl Drop for Admitted {
    fn drop(&mut self) {
        let mut state = self.connections.lock();
        if let Some(open) = state.open.remove(&self.number)
            && let Some(count) = state.by_address.get_mut(&open.address)
        {
            *count -= 1;
            if *count == 0 {
                state.by_address.remove(&open.address);
            }
        }
    }
}

impl Connections {
    /// None yet; as many as this process may have.
    pub fn new() -> Arc<Self> {
        let files = open_files().saturating_sub(OWN_FILES) / 2;
        Arc::new(Self { room: files.clamp(16, MAX_CONNECTIONS), state: Mutex::default() })
    }

    /// Closes the connection that is idle for longest; whether there is one.
    pub fn close_one(&self) -> bool {
        self.lock().close_one()
    }

    /// Lets a connection in, unless its address has enough of them or there is no room; the one that is idle for longest makes room.
    pub fn admit(self: &Arc<Self>, peer: IpAddr, limits: &Limits) -> Option<Admitted> {
        let address = Address::from(peer);
        let mut state = self.lock();
        let count = state.by_address.get(&address).copied().unwrap_or(0);
        // Behind a proxy all connections are its own.
        if !limits.is_behind_proxy && count >= limits.connections_per_address {
            return None;
        }
        let is_newcomer = limits.is_behind_proxy || count < SHARE_FLOOR;
        let room = if is_newcomer { self.room } else { self.room - self.room / RESERVE };
        if state.open.len() >= room && !state.close_one() {
            return None;
        }
        let number = state.next;
        state.next += 1;
        *state.by_address.entry(address).or_default() += 1;
        let activity = Arc::new(Activity::new());
        state.open.insert(number, Open { address, activity: Arc::clone(&activity) });
        drop(state);
        Some(Admitted { connections: Arc::clone(self), number, activity })
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl State {
    /// Closes the connection that is idle for longest, a moment later; whether there is one.
    fn close_one(&mut self) -> bool {
        let idle = self.open.values().filter(|open| open.activity.is_idle() && !open.activity.is_told());
        let Some(longest) = idle.min_by_key(|open| open.activity.since()) else { return false };
        longest.activity.is_closing.store(true, Ordering::Relaxed);
        longest.activity.close.notify_one();
        true
    }
}

/// How many files this process may open, once it asked for all that it can have.
#[cfg(unix)]
fn open_files() -> usize {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let Rlimit { current, maximum } = getrlimit(Resource::Nofile);
    let raised = setrlimit(Resource::Nofile, Rlimit { current: maximum, maximum });
    let limit = if raised.is_ok() { maximum } else { current };
    limit.map_or(usize::MAX, |limit| usize::try_from(limit).unwrap_or(usize::MAX))
}

#[cfg(not(unix))]
fn open_files() -> usize {
    usize::MAX
}

/// What goes on on a connection.
pub struct Activity {
    begun: Instant,
    /// Requests that are being answered.
    requests: AtomicUsize,
    /// Whether there ever was one.
    has_asked: AtomicBool,
    /// Milliseconds from the beginning to when the last request was answered.
    idle_since: AtomicU64,
    /// Bytes that were written.
    written: AtomicU64,
    /// Whether the last write has to wait until the client takes more.
    is_blocked: AtomicBool,
    /// Told when somebody else is to have its place.
    close: Notify,
    is_closing: AtomicBool,
}

impl Activity {
    fn new() -> Self {
        Self {
            begun: Instant::now(),
            requests: AtomicUsize::new(0),
            has_asked: AtomicBool::new(false),
            idle_since: AtomicU64::new(0),
            written: AtomicU64::new(0),
            is_blocked: AtomicBool::new(false),
            close: Notify::new(),
            is_closing: AtomicBool::new(false),
        }
    }

    fn is_told(&self) -> bool {
        self.is_closing.load(Ordering::Relaxed)
    }

    fn is_idle(&self) -> bool {
        self.requests.load(Ordering::Relaxed) == 0
    }

    fn since(&self) -> Instant {
        self.begun + Duration::from_millis(self.idle_since.load(Ordering::Relaxed))
    }

    /// Notes that a request is being answered, until what this gives is dropped.
    pub fn begin(self: &Arc<Self>) -> Answering {
        self.has_asked.store(true, Ordering::Relaxed);
        self.requests.fetch_add(1, Ordering::Relaxed);
        Answering(Arc::clone(self))
    }

    /// Over once the connection is to be given up.
    pub async fn over(&self, limits: &Limits) {
        let tick = limits.head.min(limits.silence).min(Duration::from_secs(4)) / 4;
        let mut window = (Instant::now(), self.written.load(Ordering::Relaxed));
        loop {
            tokio::select! {
                () = self.close.notified() => return,
                () = tokio::time::sleep(tick) => {}
            }
            if self.is_idle() {
                let patience = if self.has_asked.load(Ordering::Relaxed) { limits.idle } else { limits.head };
                if self.since().elapsed() > patience {
                    return;
                }
            }
            let (begun, before) = window;
            if begun.elapsed() >= limits.silence {
                let written = self.written.load(Ordering::Relaxed);
                let least = MIN_RATE * limits.silence.as_millis() as u64 / 1000;
                if self.is_blocked.load(Ordering::Relaxed) && written - before < least {
                    return;
                }
                window = (Instant::now(), written);
            }
        }
    }
}

/// That a request is being answered.
pub struct Answering(Arc<Activity>);

impl Drop for Answering {
    fn drop(&mut self) {
        let now = u64::try_from(self.0.begun.elapsed().as_millis()).unwrap_or(u64::MAX);
        self.0.idle_since.store(now, Ordering::Relaxed);
        self.0.requests.fetch_sub(1, Ordering::Relaxed);
    }
}

/// A body that is part of an answer until its end.
pub struct AnswerBody {
    body: Body,
    _answering: Answering,
}

impl AnswerBody {
    /// The body of an answer.
    pub fn new(body: Body, answering: Answering) -> Self {
        Self { body, _answering: answering }
    }
}

impl HttpBody for AnswerBody {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, axum::Error>>> {
        Pin::new(&mut self.body).poll_frame(context)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

/// A stream that counts what is written to it.
pub struct Watched<S> {
    stream: S,
    activity: Arc<Activity>,
}

impl<S> Watched<S> {
    /// The stream of a connection.
    pub fn new(stream: S, activity: Arc<Activity>) -> Self {
        Self { stream, activity }
    }

    fn note(&self, written: Poll<io::Result<usize>>) -> Poll<io::Result<usize>> {
        if let Poll::Ready(Ok(written)) = &written {
            self.activity.written.fetch_add(*written as u64, Ordering::Relaxed);
        }
        self.activity.is_blocked.store(written.is_pending(), Ordering::Relaxed);
        written
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Watched<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(context, buffer)
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Watched<S> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        let written = Pin::new(&mut self.stream).poll_write(context, bytes);
        self.note(written)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        pieces: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let written = Pin::new(&mut self.stream).poll_write_vectored(context, pieces);
        self.note(written)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn connections(room: usize) -> Arc<Connections> {
        Arc::new(Connections { room, state: Mutex::default() })
    }

    fn admit_many(
        connections: &Arc<Connections>,
        limits: &Limits,
        address: &str,
        count: usize,
    ) -> Vec<Admitted> {
        let peer: IpAddr = address.parse().unwrap();
        (0..count).map_while(|_| connections.admit(peer, limits)).collect()
    }

    #[test]
    fn an_address_has_its_limit_and_a_network_is_one_address() {
        let (connections, limits) = (connections(4096), Limits::default());
        let most = limits.connections_per_address;
        let one = admit_many(&connections, &limits, "192.0.2.1", most + 9);
        assert_eq!(one.len(), most);
        assert_eq!(admit_many(&connections, &limits, "::ffff:192.0.2.1", 1).len(), 0, "the same address");
        let _other = admit_many(&connections, &limits, "2001:db8::1", most);
        assert_eq!(admit_many(&connections, &limits, "2001:db8::2", 1).len(), 0, "the same network");
        drop(one);
        assert_eq!(admit_many(&connections, &limits, "192.0.2.1", 1).len(), 1);
        let proxied = Limits { is_behind_proxy: true, ..limits };
        assert_eq!(admit_many(&connections, &proxied, "192.0.2.7", most + 9).len(), most + 9);
    }

    #[test]
    fn when_it_is_full_newcomers_have_a_reserve_and_then_the_one_that_is_idle_for_longest_goes() {
        let (connections, limits) = (connections(80), Limits::default());
        let many = admit_many(&connections, &limits, "192.0.2.1", 70);
        let busy: Vec<Answering> = many.iter().map(|admitted| admitted.activity.begin()).collect();
        assert_eq!(admit_many(&connections, &limits, "192.0.2.1", 1).len(), 0, "none of them is idle");
        let newcomer = |number: usize| admit_many(&connections, &limits, &format!("198.51.100.{number}"), 1);
        let newcomers: Vec<Admitted> = (0..10).flat_map(newcomer).collect();
        assert_eq!(newcomers.len(), 10);
        std::thread::sleep(Duration::from_millis(2));
        drop(newcomers[0].activity.begin());
        assert_eq!(admit_many(&connections, &limits, "203.0.113.1", 1).len(), 1);
        let shown: Vec<usize> = (0..10).filter(|at| newcomers[*at].activity.is_told()).collect();
        assert_eq!(shown, [1], "the first one was not idle for long");
        drop(busy);
    }
}
