//! The program that runs in each namespace: it listens on all its addresses and sends packets on command.

use socket2::{Domain, Protocol, Socket, Type};
use std::io::{self, BufRead, Read, Write};
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::time::{Duration, Instant};

/// How long an answer is waited for. Everything is on one machine.
const PATIENCE: Duration = Duration::from_millis(350);

struct Listening {
    tcp: Vec<(SocketAddr, TcpListener)>,
    udp: Vec<(SocketAddr, UdpSocket)>,
    open: Vec<(SocketAddr, TcpStream)>,
}

/// Arguments: ports, separated by commas, then addresses.
pub(crate) fn run(arguments: &[String]) {
    let ports: Vec<u16> = arguments[0].split(',').map(|port| port.parse().unwrap()).collect();
    let addresses: Vec<IpAddr> = arguments[1..].iter().map(|one| one.parse().unwrap()).collect();
    let mut listening = Listening { tcp: Vec::new(), udp: Vec::new(), open: Vec::new() };
    for address in addresses {
        for port in &ports {
            let at = SocketAddr::new(address, *port);
            let tcp = TcpListener::bind(at).unwrap();
            tcp.set_nonblocking(true).unwrap();
            listening.tcp.push((at, tcp));
            let udp = UdpSocket::bind(at).unwrap();
            udp.set_nonblocking(true).unwrap();
            listening.udp.push((at, udp));
        }
    }
    println!("ready");
    // Commands come on another thread, so that this one can look after its sockets.
    let (commands, come) = std::sync::mpsc::channel::<String>();
    std::thread::spawn(move || {
        for line in io::stdin().lock().lines() {
            if commands.send(line.unwrap()).is_err() {
                return;
            }
        }
    });
    let mut batch: Vec<String> = Vec::new();
    loop {
        match come.recv_timeout(Duration::from_millis(2)) {
            Ok(line) if line == "go" => {
                send(&std::mem::take(&mut batch), &mut listening);
                println!("done");
            }
            Ok(line) => batch.push(line),
            Err(std::sync::mpsc::RecvTimeoutError::Timeout) => listening.look(),
            Err(_) => return,
        }
    }
}

impl Listening {
    /// Reports arrivals: the number that was sent, and the place.
    fn look(&mut self) {
        for (at, listener) in &self.tcp {
            while let Ok((stream, _)) = listener.accept() {
                stream.set_nonblocking(true).unwrap();
                self.open.push((*at, stream));
            }
        }
        let mut buffer = [0; 64];
        self.open.retain_mut(|(at, stream)| match stream.read(&mut buffer) {
            Ok(0) => false,
            Ok(length) => {
                arrived(&buffer[..length], *at);
                false
            }
            Err(error) => error.kind() == io::ErrorKind::WouldBlock,
        });
        for (at, socket) in &self.udp {
            while let Ok((length, _)) = socket.recv_from(&mut buffer) {
                arrived(&buffer[..length], *at);
            }
        }
    }
}

fn arrived(number: &[u8], at: SocketAddr) {
    println!("{} {} {}", String::from_utf8_lossy(number).trim(), at.ip(), at.port());
}

/// `NUMBER tcp|udp SOURCE SPORT DESTINATION PORT` each.
fn send(batch: &[String], listening: &mut Listening) {
    let mut waiting: Vec<(String, Socket)> = Vec::new();
    for line in batch {
        let words: Vec<&str> = line.split(' ').collect();
        let source = SocketAddr::new(words[2].parse().unwrap(), words[3].parse().unwrap());
        let destination = SocketAddr::new(words[4].parse().unwrap(), words[5].parse().unwrap());
        let domain = Domain::for_address(destination);
        if words[1] == "udp" {
            let socket = Socket::new(domain, Type::DGRAM, Some(Protocol::UDP)).unwrap();
            socket.set_reuse_address(true).unwrap();
            socket.bind(&source.into()).unwrap();
            // An answer of the gate (not allowed) may show up here already.
            let _ = socket.send_to(words[0].as_bytes(), &destination.into());
            continue;
        }
        let socket = Socket::new(domain, Type::STREAM, Some(Protocol::TCP)).unwrap();
        socket.set_reuse_address(true).unwrap();
        socket.set_nonblocking(true).unwrap();
        socket.bind(&source.into()).unwrap();
        let _ = socket.connect(&destination.into());
        waiting.push((words[0].to_owned(), socket));
    }
    let begun = Instant::now();
    while begun.elapsed() < PATIENCE {
        listening.look();
        waiting.retain_mut(|(number, socket)| match (socket.take_error(), socket.peer_addr()) {
            (Ok(None), Ok(_)) => socket.write_all(number.as_bytes()).is_err(),
            (Ok(None), Err(_)) => true,
            _ => false,
        });
        std::thread::sleep(Duration::from_millis(2));
    }
    listening.look();
}
