//! A mail server that keeps what it takes (RFC 5321, as much of it as is needed to take a letter).

use std::sync::{Arc, Mutex};

use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};

/// What it answers to the next letters, before it takes any.
type Refusals = Arc<Mutex<Vec<&'static str>>>;

pub struct Post {
    /// Where it is.
    pub address: String,
    /// Letters that it took, as they came.
    pub taken: Arc<Mutex<Vec<String>>>,
    refusals: Refusals,
}

impl Post {
    pub async fn open() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = format!("smtp://{}", listener.local_addr().unwrap());
        let (taken, refusals) = (Arc::default(), Refusals::default());
        let post = Self { address, taken: Arc::clone(&taken), refusals: Arc::clone(&refusals) };
        tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                tokio::spawn(talk(stream, Arc::clone(&taken), Arc::clone(&refusals)));
            }
        });
        post
    }

    /// Answers the next recipient with this.
    pub fn refuse(&self, answer: &'static str) {
        self.refusals.lock().unwrap().push(answer);
    }
}

async fn talk(
    stream: TcpStream,
    taken: Arc<Mutex<Vec<String>>>,
    refusals: Refusals,
) -> std::io::Result<()> {
    let mut stream = BufReader::new(stream);
    stream.write_all(b"220 post.amberfold.example\r\n").await?;
    let mut line = String::new();
    while stream.read_line(&mut line).await? > 0 {
        let refusal = line.starts_with("RCPT").then(|| refusals.lock().unwrap().pop()).flatten();
        let answer = match (&line[..4], refusal) {
            (_, Some(refusal)) => refusal,
            ("DATA", _) => "354 go on",
            ("QUIT", _) => "221 bye",
            _ => "250 post.amberfold.example",
        };
        let data = line.starts_with("DATA");
        stream.write_all(format!("{answer}\r\n").as_bytes()).await?;
        line.clear();
        if data {
            let mut letter = String::new();
            while stream.read_line(&mut letter).await? > 0 && !letter.ends_with("\r\n.\r\n") {}
            taken.lock().unwrap().push(letter);
            stream.write_all(b"250 taken\r\n").await?;
        }
    }
    Ok(())
}
