//! What stands before several servers: each connection goes to the next of them, as a plain balancer would. Before a
//! database it can stand still, as one that hangs does.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// One port for several servers; closed with this value.
pub struct RoundRobin {
    pub port: u16,
    closed: Arc<AtomicBool>,
    frozen: Arc<AtomicBool>,
    accepting: Option<std::thread::JoinHandle<()>>,
}

/// Copies what comes from one to the other until it ends, and keeps it back while it is frozen.
fn copy(mut from: TcpStream, mut to: TcpStream, frozen: &AtomicBool) {
    let mut buffer = [0; 16 * 1024];
    while let Ok(read @ 1..) = from.read(&mut buffer) {
        while frozen.load(Ordering::Relaxed) {
            std::thread::sleep(Duration::from_millis(5));
        }
        if to.write_all(&buffer[..read]).is_err() {
            break;
        }
    }
    let _ = to.shutdown(Shutdown::Write);
    let _ = from.shutdown(Shutdown::Read);
}

fn forward(client: TcpStream, server: &str, frozen: &Arc<AtomicBool>) {
    let Ok(server) = TcpStream::connect(server) else { return };
    let (Ok(from), Ok(back)) = (client.try_clone(), server.try_clone()) else { return };
    let (there, here) = (Arc::clone(frozen), Arc::clone(frozen));
    std::thread::spawn(move || copy(from, server, &there));
    std::thread::spawn(move || copy(back, client, &here));
}

impl RoundRobin {
    /// Listens on a port (0: any) for servers at some addresses.
    pub fn before(servers: Vec<String>, port: u16) -> Self {
        let listener = TcpListener::bind(("127.0.0.1", port)).expect("the port is free");
        let port = listener.local_addr().unwrap().port();
        listener.set_nonblocking(true).unwrap();
        let closed = Arc::new(AtomicBool::new(false));
        let frozen = Arc::new(AtomicBool::new(false));
        let (told, still) = (Arc::clone(&closed), Arc::clone(&frozen));
        let accepting = std::thread::spawn(move || {
            let mut turn = servers.iter().cycle();
            while !told.load(Ordering::Relaxed) {
                match listener.accept() {
                    Ok((client, _)) => {
                        client.set_nonblocking(false).unwrap();
                        forward(client, turn.next().unwrap(), &still);
                    }
                    Err(_) => std::thread::sleep(Duration::from_millis(2)),
                }
            }
        });
        Self { port, closed, frozen, accepting: Some(accepting) }
    }

    /// Lets nothing through any more, though every connection stays, or everything again.
    pub fn freeze(&self, frozen: bool) {
        self.frozen.store(frozen, Ordering::Relaxed);
    }
}

impl Drop for RoundRobin {
    fn drop(&mut self) {
        self.closed.store(true, Ordering::Relaxed);
        self.freeze(false);
        if let Some(accepting) = self.accepting.take() {
            let _ = accepting.join();
        }
    }
}
