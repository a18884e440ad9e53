//! A proposal in the `server-include` dialect, as a real web server puts it together.
//!
//! Needs `nginx`; where it is not installed the test is reported as skipped, and fails in CI.
#![cfg(unix)]

use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use crate::common::{demo, has, radicon};

/// A web server that is stopped when it goes out of scope.
struct Server {
    process: Child,
    port: u16,
}

impl Server {
    /// Serves a folder with includes switched on, from a configuration in another folder.
    fn start(root: &Path, own: &Path) -> Self {
        let port = TcpListener::bind("127.0.0.1:0").and_then(|free| free.local_addr()).expect("a port").port();
        let (root, own) = (root.display(), own.display());
        let configuration = format!(
            "daemon off; master_process off; pid {own}/pid; error_log {own}/errors;
             events {{}}
             http {{
               access_log off;
               client_body_temp_path {own}/a; proxy_temp_path {own}/b; fastcgi_temp_path {own}/c;
               uwsgi_temp_path {own}/d; scgi_temp_path {own}/e;
               server {{ listen 127.0.0.1:{port}; root {root}; ssi on; default_type text/html; }}
             }}"
        );
        let file = format!("{own}/nginx.conf");
        fs::write(&file, configuration).expect("a file");
        let program = if Path::new("/usr/sbin/nginx").is_file() { "/usr/sbin/nginx" } else { "nginx" };
        let process = Command::new(program).args(["-e", "stderr", "-c", &file]).stderr(Stdio::inherit()).spawn();
        let server = Self { process: process.expect("it starts"), port };
        for _ in 0..100 {
            if TcpStream::connect(("127.0.0.1", port)).is_ok() {
                return server;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        panic!("nginx does not answer");
    }

    /// The body of a page.
    fn get(&self, path: &str) -> Vec<u8> {
        let mut stream = TcpStream::connect(("127.0.0.1", self.port)).expect("it answers");
        write!(stream, "GET /{path} HTTP/1.0\r\nHost: localhost\r\n\r\n").expect("sent");
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer).expect("read");
        let end = answer.windows(4).position(|bytes| bytes == b"\r\n\r\n").expect("a header");
        assert!(answer.starts_with(b"HTTP/1.1 200"), "{path}: {}", String::from_utf8_lossy(&answer[..end]));
        answer[end + 4..].to_vec()
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

#[test]
fn what_a_web_server_puts_together_is_the_pages_as_they_were() {
    if !has("nginx") {
        return;
    }
    let (dir, site) = demo();
    let (included, served) = (dir.path().join("included"), dir.path().join("served"));
    let into = included.to_str().expect("UTF-8");
    let proposed = radicon(&site, &["propose", "--dialect", "server-include", "--into", into]);
    assert_eq!(proposed.code, 0, "{}", proposed.err);
    let pages: Vec<String> = ["fares", "timetable", "winter", "harbours/heronsea", "harbours/index", "index"]
        .map(|page| format!("{page}.html"))
        .to_vec();
    let with_includes =
        |page: &&String| fs::read_to_string(included.join(page)).expect("a page").contains("<!--#include virtual=");
    assert!(pages.iter().filter(with_includes).count() >= 4, "{}", proposed.out);

    let server = Server::start(&included, dir.path());
    let (old, new) = (served.join("old"), served.join("new"));
    for page in &pages {
        for (folder, bytes) in [(&old, fs::read(site.join(page)).expect("a page")), (&new, server.get(page))] {
            let file = folder.join(page);
            fs::create_dir_all(file.parent().expect("a folder")).expect("a folder");
            fs::write(file, bytes).expect("a file");
        }
    }
    let proof = radicon(&served, &["prove", "old", "new", "--strength", "blanks"]);
    assert_eq!(proof.code, 0, "{}{}", proof.out, proof.err);
    // And what is proven is not that nothing was compared.
    fs::write(new.join("fares.html"), server.get("winter.html")).expect("a file");
    assert_eq!(radicon(&served, &["prove", "old", "new", "--strength", "blanks"]).code, 1);
}
