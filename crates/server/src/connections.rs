//! Connections: how many there are, how long each may wait for its client, and how they end.
//!
//! A client that sends its request too slowly, never reads its answer or keeps a connection without
//! using it costs no more than a seat among `MOST`, which it loses when others come.

use axum::body::{Body, HttpBody};
use axum::extract::Request;
use axum::response::Response;
use axum::Router;
use hyper_util::rt::{TokioIo, TokioTimer};
use std::collections::HashMap;
use std::future::{poll_fn, Future};
use std::io;
use std::pin::{pin, Pin};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{watch, Notify};
use tokio::time::{sleep, Sleep};
use tower::ServiceExt;
use ulmix_runner::locked::lock;
use ulmix_runner::memory;

/// Connections at once.
const MOST: usize = 400;
/// Bytes of an answer that must go out within [`Times::body`].
const WRITTEN: usize = 64 << 10;

/// How long clients may take.
#[derive(Clone, Copy)]
struct Times {
    /// For the head of a request, also of the next one on a connection that stays.
    head: Duration,
    /// Without a byte of a body that comes in, and for [`WRITTEN`] bytes of an answer to go out.
    body: Duration,
}

const TIMES: Times = Times { head: Duration::from_secs(30), body: Duration::from_secs(30) };

/// Time for answers under way when the server is to end.
const GRACE: Duration = Duration::from_secs(2);
/// Who is refused before their request has come in whole is still sending: that is read on for so
/// long at most, so that the answer reaches them.
const LINGER: Duration = Duration::from_secs(5);
/// Pause after the system could not give a connection.
const PAUSE: Duration = Duration::from_millis(50);

/// A connection's seat.
struct Seat {
    /// Requests whose answers have not gone out whole.
    busy: AtomicUsize,
    since: Mutex<Instant>,
    leave: Notify,
}

#[derive(Default)]
struct Seats {
    all: Mutex<HashMap<u64, Arc<Seat>>>,
}

impl Seats {
    /// A seat for a new connection: where all are taken, the one that was idle longest leaves.
    /// `None` where none is idle.
    fn take(&self, id: u64) -> Option<Arc<Seat>> {
        let mut all = lock(&self.all);
        if all.len() >= MOST {
            let idle = all.iter().filter(|(_, p)| p.busy.load(Ordering::Relaxed) == 0);
            let (longest, seat) =
                idle.min_by_key(|(_, p)| *lock(&p.since)).map(|(id, p)| (*id, p.clone()))?;
            all.remove(&longest);
            seat.leave.notify_one();
        }
        let seat = Arc::new(Seat {
            busy: AtomicUsize::new(0),
            since: Mutex::new(Instant::now()),
            leave: Notify::new(),
        });
        all.insert(id, seat.clone());
        Some(seat)
    }
}

/// Serves until `stop` ends, then for a little longer those who are being answered.
pub async fn serve(listener: TcpListener, router: Router, stop: impl Future<Output = ()>) {
    serve_within(TIMES, Arc::default(), listener, router, stop).await;
}

async fn serve_within(
    times: Times,
    seats: Arc<Seats>,
    listener: TcpListener,
    router: Router,
    stop: impl Future<Output = ()>,
) {
    let (stopping, stopped) = watch::channel(());
    let mut stop = pin!(stop);
    for id in 0.. {
        let stream = tokio::select! {
            accepted = listener.accept() => accepted,
            () = &mut stop => break,
        };
        let Ok((stream, _)) = stream else {
            sleep(PAUSE).await;
            continue;
        };
        let Some(seat) = seats.take(id) else { continue };
        let (seats, router, stopped) = (seats.clone(), router.clone(), stopped.clone());
        tokio::spawn(async move {
            connection(stream, router, times, &seat, stopped).await;
            lock(&seats.all).remove(&id);
        });
    }
    drop(stopped);
    drop(listener);
    let _ = stopping.send(());
    // Each connection holds a receiver.
    let _ = tokio::time::timeout(GRACE, stopping.closed()).await;
}

async fn connection(
    stream: TcpStream,
    router: Router,
    times: Times,
    seat: &Arc<Seat>,
    mut stopped: watch::Receiver<()>,
) {
    let _ = stream.set_nodelay(true);
    let service = hyper::service::service_fn(|request: Request<hyper::body::Incoming>| {
        let answering = Answering::begin(seat);
        let request =
            request.map(|body| Body::new(Arriving { body, patience: Patience::of(times.body) }));
        let answer = router.clone().oneshot(request);
        let leaving = |response: Response| {
            response.map(|body| Body::new(Outgoing { body, _answering: answering }))
        };
        Box::pin(async move { answer.await.map(leaving) })
    });
    let mut http = hyper::server::conn::http1::Builder::new();
    http.timer(TokioTimer::new()).header_read_timeout(times.head);
    let stream = TokioIo::new(Patient { stream, patience: Patience::of(times.body), written: 0 });
    let mut connection = http.serve_connection(stream, service);
    let ended = tokio::select! {
        ended = poll_fn(|cx| connection.poll_without_shutdown(cx)) => ended,
        () = seat.leave.notified() => return,
        _ = stopped.changed() => {
            Pin::new(&mut connection).graceful_shutdown();
            poll_fn(|cx| connection.poll_without_shutdown(cx)).await
        }
    };
    // How it ended is the client's matter.
    if ended.is_ok() {
        let _ =
            tokio::time::timeout(LINGER, read_on(connection.into_parts().io.into_inner().stream))
                .await;
    }
}

/// Closes a stream for writing and takes what still comes, for a client reads an answer only after
/// it has sent all.
async fn read_on(mut stream: TcpStream) -> io::Result<()> {
    stream.shutdown().await?;
    let mut nothing = [0; 16 << 10];
    while stream.read(&mut nothing).await? > 0 {}
    Ok(())
}

/// A request that is being answered.
struct Answering(Arc<Seat>);

impl Answering {
    fn begin(seat: &Arc<Seat>) -> Answering {
        seat.busy.fetch_add(1, Ordering::Relaxed);
        Answering(seat.clone())
    }
}

impl Drop for Answering {
    fn drop(&mut self) {
        self.0.busy.fetch_sub(1, Ordering::Relaxed);
        *lock(&self.0.since) = Instant::now();
        memory::used();
    }
}

/// The body of an answer: the connection is busy until it has gone out.
struct Outgoing {
    body: Body,
    _answering: Answering,
}

impl HttpBody for Outgoing {
    type Data = <Body as HttpBody>::Data;
    type Error = <Body as HttpBody>::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<hyper::body::Frame<Self::Data>, Self::Error>>> {
        Pin::new(&mut self.body).poll_frame(cx)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> hyper::body::SizeHint {
        self.body.size_hint()
    }
}

/// For how long a client is waited for that does nothing.
struct Patience {
    time: Duration,
    left: Option<Pin<Box<Sleep>>>,
}

impl Patience {
    fn of(time: Duration) -> Patience {
        Patience { time, left: None }
    }

    /// The client has done something.
    fn renew(&mut self) {
        self.left = None;
    }

    /// Ready once the client has done nothing for the time.
    fn poll_end(&mut self, cx: &mut Context<'_>) -> Poll<io::Error> {
        let time = self.time;
        self.left
            .get_or_insert_with(|| Box::pin(sleep(time)))
            .as_mut()
            .poll(cx)
            .map(|()| io::ErrorKind::TimedOut.into())
    }
}

/// The body of a request: a client that sends nothing for a while has left.
struct Arriving {
    body: hyper::body::Incoming,
    patience: Patience,
}

impl HttpBody for Arriving {
    type Data = <Body as HttpBody>::Data;
    type Error = Box<dyn std::error::Error + Send + Sync>;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<hyper::body::Frame<Self::Data>, Self::Error>>> {
        match Pin::new(&mut self.body).poll_frame(cx) {
            Poll::Ready(frame) => {
                self.patience.renew();
                Poll::Ready(frame.map(|f| f.map_err(Into::into)))
            }
            Poll::Pending => self.patience.poll_end(cx).map(|e| Some(Err(e.into()))),
        }
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> hyper::body::SizeHint {
        self.body.size_hint()
    }
}

/// A stream whose other side must take what is written: [`WRITTEN`] bytes within the time, or all
/// there are.
struct Patient {
    stream: TcpStream,
    patience: Patience,
    written: usize,
}

impl Patient {
    /// Counts what was written, and gives up on who takes too little.
    fn counted(
        &mut self,
        cx: &mut Context<'_>,
        written: Poll<io::Result<usize>>,
    ) -> Poll<io::Result<usize>> {
        match written {
            Poll::Ready(Ok(n)) => {
                self.written += n;
                if self.written >= WRITTEN {
                    self.renew();
                }
                Poll::Ready(Ok(n))
            }
            Poll::Ready(Err(e)) => Poll::Ready(Err(e)),
            Poll::Pending => self.patience.poll_end(cx).map(Err),
        }
    }

    fn renew(&mut self) {
        self.patience.renew();
        self.written = 0;
    }
}

impl AsyncRead for Patient {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(cx, buf)
    }
}

impl AsyncWrite for Patient {
    fn poll_write(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &[u8],
    ) -> Poll<io::Result<usize>> {
        let written = Pin::new(&mut self.stream).poll_write(cx, buf);
        self.counted(cx, written)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bufs: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let written = Pin::new(&mut self.stream).poll_write_vectored(cx, bufs);
        self.counted(cx, written)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    /// Asked for when all is written.
    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.renew();
        Pin::new(&mut self.stream).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_connection_that_was_idle_longest_makes_room() {
        let seats = Seats::default();
        let all: Vec<Arc<Seat>> = (0..MOST as u64).map(|id| seats.take(id).unwrap()).collect();
        // All but two are busy; of those the second was used last.
        let busy: Vec<Answering> = all[2..].iter().map(Answering::begin).collect();
        drop(Answering::begin(&all[1]));
        let next = seats.take(1000).unwrap();
        assert!(!lock(&seats.all).contains_key(&0) && lock(&seats.all).contains_key(&1));
        let _answering = (Answering::begin(&next), Answering::begin(&all[1]));
        assert!(seats.take(1001).is_none(), "nobody is idle");
        drop(busy);
        assert!(seats.take(1002).is_some());
    }

    /// A server with little patience, and how many connections it has.
    fn impatient(
        router: Router,
    ) -> (tokio::runtime::Runtime, std::net::SocketAddr, impl Fn() -> usize) {
        let runtime = tokio::runtime::Runtime::new().unwrap();
        let seats = Arc::new(Seats::default());
        let listener = runtime.block_on(TcpListener::bind("127.0.0.1:0")).unwrap();
        let address = listener.local_addr().unwrap();
        let times = Times { head: Duration::from_millis(200), body: Duration::from_millis(200) };
        runtime.spawn(serve_within(times, seats.clone(), listener, router, std::future::pending()));
        (runtime, address, move || lock(&seats.all).len())
    }

    fn until(so: impl Fn() -> bool) {
        let start = Instant::now();
        while !so() {
            assert!(start.elapsed() < Duration::from_secs(30));
            std::thread::yield_now();
        }
    }

    #[test]
    fn who_does_not_read_send_or_ask_loses_the_connection_and_what_was_meant_for_them() {
        use std::io::{Read, Write};
        let answer = Arc::new(vec![7u8; 40 << 20]);
        let held = answer.clone();
        let get = move || {
            let held = held.clone();
            async move { crate::api::shared::shared_bytes(held) }
        };
        let put = |body: axum::body::Bytes| async move { body.len().to_string() };
        let router = Router::new().route("/", axum::routing::get(get).put(put));
        let (_runtime, address, connections) = impatient(router);
        let client = |says: &[u8]| {
            let mut stream = std::net::TcpStream::connect(address).unwrap();
            stream.write_all(says).unwrap();
            stream
        };
        let ask = b"GET / HTTP/1.1\r\nHost: x\r\n\r\n";
        let _deaf: Vec<_> = (0..20).map(|_| client(ask)).collect();
        let _silent = [client(b""), client(b"GET / HT")];
        let mut stalled = client(b"PUT / HTTP/1.1\r\nHost: x\r\nContent-Length: 10\r\n\r\n1234");
        until(|| connections() == 0);
        until(|| Arc::strong_count(&answer) <= 2);
        let mut told = String::new();
        stalled.read_to_string(&mut told).unwrap();
        assert!(told.starts_with("HTTP/1.1 400"), "{told}");
        // Who reads slowly but does read gets all.
        let mut reader = client(ask);
        let mut whole = 0;
        let mut some = vec![0; 1 << 20];
        while whole < answer.len() {
            let n = reader.read(&mut some).unwrap();
            assert!(n > 0, "cut off after {whole} bytes");
            whole += n;
        }
    }
}
