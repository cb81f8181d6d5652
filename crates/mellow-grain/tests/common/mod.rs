//! The serving program as a process, and requests to it.
#![allow(dead_code)]

use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use workshop::{NewShot, ShotChange, Workshop};

/// A request and its answer; none where the program was not there, or went away before it had answered.
pub fn send(address: &str, method: &str, path: &str, body: &[u8]) -> Option<(u16, Value)> {
    let mut s = TcpStream::connect(address).ok()?;
    s.set_read_timeout(Some(Duration::from_secs(600))).ok()?;
    let head = format!("Host: {address}\r\nConnection: close\r\nContent-Length: {}\r\n", body.len());
    write!(s, "{method} {path} HTTP/1.1\r\n{head}\r\n").ok()?;
    s.write_all(body).ok()?;
    let mut answer = Vec::new();
    s.read_to_end(&mut answer).ok()?;
    let answer = String::from_utf8_lossy(&answer);
    let (head, body) = answer.split_once("\r\n\r\n")?;
    Some((head.get(9..12)?.parse().ok()?, serde_json::from_str(body).unwrap_or(Value::Null)))
}

/// A data folder with a shot that renders for longer than any test waits.
pub fn folder() -> (TempDir, i64) {
    let data = tempfile::tempdir().unwrap();
    let w = Workshop::open(data.path()).unwrap();
    let scene = w.import_scene("cabinet.glb", &demo::lens_cabinet()).unwrap();
    let new = NewShot { name: "Cabinet".into(), scene: scene.hash, environment: None, camera: None, budget: 60.0 };
    let id = w.add_shot(&new).unwrap();
    let long = json!({ "frame.width": 96, "frame.height": 64, "sampling.adaptive": false, "sampling.most": 65536 });
    let tuning = serde_json::from_value(long).unwrap();
    w.change_shot(id, &ShotChange { tuning, ..ShotChange::default() }).unwrap();
    assert!(w.close(Duration::from_secs(300)).unwrap());
    (data, id)
}

pub fn command(data: &Path, listen: &str) -> Command {
    let mut c = Command::new(env!("CARGO_BIN_EXE_mellow-grain"));
    c.args(["serve", "--listen", listen, "--data"]).arg(data).stdout(Stdio::piped()).stderr(Stdio::piped());
    c
}

pub struct Service {
    pub child: Child,
    pub address: String,
}

impl Service {
    pub fn start(data: &Path) -> Service {
        Service::wait(command(data, "127.0.0.1:0"))
    }

    /// Starts a command and waits for its address.
    pub fn wait(mut command: Command) -> Service {
        let mut child = command.spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let address = line.trim().rsplit_once("http://").expect("an address").1.to_string();
        Service { child, address }
    }

    pub fn ask(&self, method: &str, path: &str) -> (u16, Value) {
        let body = if method == "POST" { "{}" } else { "" };
        send(&self.address, method, path, body.as_bytes()).expect("an answer")
    }

    pub fn tell(&self, method: &str, path: &str, body: Value) -> (u16, Value) {
        send(&self.address, method, path, body.to_string().as_bytes()).expect("an answer")
    }

    /// The port that it listens on, also where its address is told by another name.
    pub fn port(&self) -> u16 {
        let process = format!("/proc/{}", self.child.id());
        let text = std::fs::read_to_string(format!("{process}/net/tcp")).unwrap();
        let inodes: Vec<String> = std::fs::read_dir(format!("{process}/fd"))
            .unwrap()
            .filter_map(|e| std::fs::read_link(e.unwrap().path()).ok())
            .filter_map(|l| Some(l.to_str()?.strip_prefix("socket:[")?.strip_suffix(']')?.to_string()))
            .collect();
        let listens = text.lines().skip(1).map(|l| l.split_whitespace().collect::<Vec<_>>());
        let mine = listens.filter(|w| w[3] == "0A").find(|w| inodes.iter().any(|i| i == w[9])).expect("a listener");
        u16::from_str_radix(mine[1].split(':').nth(1).unwrap(), 16).unwrap()
    }

    pub fn signal(&self, name: &str) {
        let sent = Command::new("kill").args([&format!("-{name}"), &self.child.id().to_string()]).status().unwrap();
        assert!(sent.success());
    }

    /// Its exit status, and how long that took.
    pub fn end(mut self) -> (Option<i32>, Duration) {
        let began = Instant::now();
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                return (status.code(), began.elapsed());
            }
            assert!(began.elapsed() < Duration::from_secs(600), "it does not end");
            std::thread::sleep(Duration::from_millis(5));
        }
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A small file system of its own, held by a process and seen by nobody else but what is started in it.
pub struct SmallDisk {
    holder: Child,
    data: PathBuf,
    bytes: u64,
    /// The way to the data folder from outside.
    pub root: PathBuf,
}

impl SmallDisk {
    /// None where this machine lets nobody mount one.
    pub fn mount(at: &Path, megabytes: u32) -> Option<SmallDisk> {
        let script =
            format!("mount -t tmpfs -o size={megabytes}m tmpfs \"$0\" && mkdir \"$0\"/data && echo there && exec cat");
        let mut c = Command::new("unshare");
        c.args(["-rm", "sh", "-c", &script]).arg(at).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut holder = c.spawn().ok()?;
        let mut line = String::new();
        BufReader::new(holder.stdout.take()?).read_line(&mut line).ok()?;
        let data = at.join("data");
        let root = PathBuf::from(format!("/proc/{}/root{}", holder.id(), data.display()));
        let disk = SmallDisk { holder, data, bytes: (megabytes as u64) << 20, root };
        if line.is_empty() {
            eprintln!("not tested on a full disk: this machine lets nobody mount a small file system");
        }
        (!line.is_empty()).then_some(disk)
    }

    fn inside(&self) -> Command {
        let mut c = Command::new("nsenter");
        c.args(["-U", "-m", "--preserve-credentials", "-t", &self.holder.id().to_string()]);
        c
    }

    pub fn command(&self) -> Command {
        let mut c = self.inside();
        c.args([env!("CARGO_BIN_EXE_mellow-grain"), "serve", "--listen", "127.0.0.1:0", "--data"]).arg(&self.data);
        c.stdout(Stdio::piped()).stderr(Stdio::piped());
        c
    }

    fn resize(&self, bytes: u64) -> bool {
        let mut c = self.inside();
        let size = format!("remount,size={bytes}");
        let at = self.data.parent().unwrap();
        c.args(["mount", "-o", &size, "tmpfs"]).arg(at).stderr(Stdio::null()).status().unwrap().success()
    }

    /// Makes it so small that so many bytes are free. It cannot be smaller than what the program has written meanwhile.
    pub fn fill(&self, free: u64) {
        let shrink = || {
            let out = Command::new("stat").args(["-f", "-c", "%b %f %S"]).arg(&self.root).output().unwrap();
            let text = String::from_utf8(out.stdout).unwrap();
            let n: Vec<u64> = text.split_whitespace().map(|n| n.parse().unwrap()).collect();
            self.resize((n[0] - n[1]) * n[2] + free)
        };
        assert!((0..100).any(|_| shrink()), "it cannot be made smaller");
    }

    /// Gives it its size back.
    pub fn clear(&self) {
        assert!(self.resize(self.bytes));
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = self.holder.kill();
        let _ = self.holder.wait();
    }
}
