//! Listening sockets: handed over by the service manager where it holds one for the address, opened otherwise; and
//! privileges dropped once they are there.

use listenfd::ListenFd;
use parking_lot::Mutex;
use std::io;
use std::net::{SocketAddr, TcpListener};

/// Sockets that the service manager holds for us, until somebody wants them.
pub struct HandedOver(Mutex<Vec<TcpListener>>);

impl HandedOver {
    /// Takes what the environment says is there.
    pub fn take() -> Self {
        let mut handed = ListenFd::from_env();
        let sockets = (0..handed.len()).filter_map(|nth| handed.take_tcp_listener(nth).ok().flatten());
        HandedOver(Mutex::new(sockets.collect()))
    }

    /// Keeps a socket for whoever wants it next.
    pub fn give_back(&self, socket: TcpListener) {
        self.0.lock().push(socket);
    }

    /// A socket that listens on an address. Blocks no one when nobody comes.
    pub fn listen(&self, address: SocketAddr) -> io::Result<TcpListener> {
        let mut sockets = self.0.lock();
        let is_it = |socket: &TcpListener| socket.local_addr().is_ok_and(|local| local == address);
        let socket = match sockets.iter().position(is_it) {
            Some(nth) => sockets.swap_remove(nth),
            None => open(address)?,
        };
        socket.set_nonblocking(true)?;
        Ok(socket)
    }
}

/// Opens a socket. One for IPv6 leaves IPv4 to others.
fn open(address: SocketAddr) -> io::Result<TcpListener> {
    use rustix::net::{AddressFamily, SocketType, bind, listen, socket, sockopt};
    let family = if address.is_ipv6() { AddressFamily::INET6 } else { AddressFamily::INET };
    let socket = socket(family, SocketType::STREAM, None)?;
    rustix::io::fcntl_setfd(&socket, rustix::io::FdFlags::CLOEXEC)?;
    sockopt::set_socket_reuseaddr(&socket, true)?;
    if address.is_ipv6() {
        sockopt::set_ipv6_v6only(&socket, true)?;
    }
    bind(&socket, &address)?;
    listen(&socket, 4096)?;
    Ok(socket.into())
}

/// Becomes another user, where root has started us. The error is for people.
pub fn become_user(name: &str) -> Result<(), String> {
    use nix::unistd::{Uid, User, getuid, initgroups, setgid, setuid};
    if !getuid().is_root() {
        return match User::from_uid(getuid()) {
            Ok(Some(user)) if user.name == name => Ok(()),
            _ => Err("only root can become another user: start the service as root, or leave `user` out"
                .to_owned()),
        };
    }
    let user = User::from_name(name).map_err(|error| error.to_string())?;
    let user = user.ok_or_else(|| "there is no such user".to_owned())?;
    if user.uid == Uid::from_raw(0) {
        return Err("that is root itself, which nothing is gained by".to_owned());
    }
    let words = |error: nix::Error| error.to_string();
    let full = std::ffi::CString::new(name).map_err(|error| error.to_string())?;
    initgroups(&full, user.gid).map_err(words)?;
    setgid(user.gid).map_err(words)?;
    setuid(user.uid).map_err(words)
}
