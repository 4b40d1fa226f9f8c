//! A proxy between a client and a server, which passes everything on and records it.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::thread;

/// Starts to forward requests and answers, and returns the address to use. Calls `asked` with each piece before it is
/// passed on, and `answered` of each with how many bytes of its connection there were until then.
pub fn before(
    address: &str,
    asked: impl Fn(&[u8]) + Send + Sync + 'static,
    answered: impl Fn(usize) + Send + Sync + 'static,
) -> String {
    before_current(Arc::new(Mutex::new(address.to_owned())), asked, answered)
}

/// The same for a server whose address may change; a client is hung up on while there is none.
pub fn before_current(
    address: Arc<Mutex<String>>,
    asked: impl Fn(&[u8]) + Send + Sync + 'static,
    answered: impl Fn(usize) + Send + Sync + 'static,
) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}/", listener.local_addr().unwrap());
    let (asked, answered) = (Arc::new(asked), Arc::new(answered));
    thread::spawn(move || {
        for client in listener.incoming().flatten() {
            let current = address.lock().unwrap().clone();
            let Ok(server) = TcpStream::connect(current) else { continue };
            let (from, to) = (client.try_clone().unwrap(), server.try_clone().unwrap());
            let (asked, answered) = (asked.clone(), answered.clone());
            thread::spawn(move || pass_on(from, to, |bytes, _| asked(bytes)));
            thread::spawn(move || pass_on(server, client, |_, passed| answered(passed)));
        }
    });
    url
}

/// The address in a URL.
pub fn address_of(url: &str) -> &str {
    url.trim_start_matches("http://").trim_end_matches('/')
}

fn pass_on(mut from: TcpStream, mut to: TcpStream, before: impl Fn(&[u8], usize)) {
    let (mut piece, mut passed) = (vec![0; 64 << 10], 0);
    while let Ok(read @ 1..) = from.read(&mut piece) {
        passed += read;
        before(&piece[..read], passed);
        if to.write_all(&piece[..read]).is_err() {
            break;
        }
    }
    // The other side may be gone already.
    let _ = to.shutdown(Shutdown::Write);
}
