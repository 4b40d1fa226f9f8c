//! Requests to a bucket: they may take as long as their bytes need, but may not stall.

use std::time::Duration;

use async_trait::async_trait;
use object_store::ClientOptions;
use object_store::client::{
    HttpClient, HttpConnector, HttpError, HttpErrorKind, HttpRequest, HttpResponse, HttpService,
    ReqwestConnector,
};

/// How long a store may be silent.
const IDLE_TIMEOUT: Duration = Duration::from_secs(30);

/// Until a connection has to be there.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(10);

/// The slowest line that is reckoned with, in bytes a second.
const MIN_BYTES_PER_SECOND: u64 = 16 << 10;

/// Makes clients that watch for silence.
#[derive(Debug, Clone)]
pub struct Transport {
    silence: Duration,
}

impl Default for Transport {
    fn default() -> Self {
        Self { silence: IDLE_TIMEOUT }
    }
}

impl HttpConnector for Transport {
    fn connect(&self, options: &ClientOptions) -> object_store::Result<HttpClient> {
        let options = options.clone().with_connect_timeout(CONNECT_TIMEOUT).with_timeout_disabled();
        let connect = |options: ClientOptions| ReqwestConnector::default().connect(&options);
        // A limit for reading would count the time that a body takes to be sent as silence.
        let reading = connect(options.clone().with_read_timeout(self.silence))?;
        let writing = connect(options.with_read_timeout_disabled())?;
        Ok(HttpClient::new(Watched { reading, writing, silence: self.silence }))
    }
}

#[derive(Debug)]
struct Watched {
    reading: HttpClient,
    writing: HttpClient,
    silence: Duration,
}

#[async_trait]
impl HttpService for Watched {
    async fn call(&self, request: HttpRequest) -> Result<HttpResponse, HttpError> {
        let length = request.body().content_length() as u64;
        if length == 0 {
            return self.reading.execute(request).await;
        }
        let limit = self.silence + Duration::from_millis(length * 1000 / MIN_BYTES_PER_SECOND);
        let answer = tokio::time::timeout(limit, self.writing.execute(request)).await;
        answer.unwrap_or_else(|elapsed| Err(HttpError::new(HttpErrorKind::Timeout, elapsed)))
    }
}

#[cfg(test)]
mod tests {
    use std::io::{BufRead, BufReader, Read, Write};
    use std::net::TcpListener;
    use std::thread;

    use object_store::aws::AmazonS3Builder;
    use object_store::path::Path;
    use object_store::{ObjectStore, ObjectStoreExt, RetryConfig};

    use super::*;

    /// A store that takes so many bytes of a body in a hundredth of a second.
    fn store(silence: Duration, pace: usize) -> impl ObjectStore {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let endpoint = format!("http://{}", listener.local_addr().unwrap());
        thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let mut stream = BufReader::new(stream);
                let head: Vec<String> = stream
                    .by_ref()
                    .lines()
                    .map_while(Result::ok)
                    .take_while(|line| !line.is_empty())
                    .collect();
                let value = |key: &str| head.iter().find_map(|line| line.strip_prefix(key));
                let mut left: usize = value("content-length: ").unwrap_or("0").parse().unwrap();
                while left > 0 {
                    let mut piece = vec![0; left.min(pace)];
                    if stream.read_exact(&mut piece).is_err() {
                        break;
                    }
                    left -= piece.len();
                    thread::sleep(Duration::from_millis(10));
                }
                // Who gave it up isn't there any more.
                let _ = write!(
                    stream.get_mut(),
                    "HTTP/1.1 200 OK\r\netag: \"one\"\r\ncontent-length: 0\r\nconnection: close\r\n\r\n"
                );
            }
        });
        let _ = rustls::crypto::ring::default_provider().install_default();
        let store = AmazonS3Builder::new()
            .with_bucket_name("garden")
            .with_endpoint(endpoint)
            .with_allow_http(true)
            .with_access_key_id("gate")
            .with_secret_access_key("fern-secret")
            .with_retry(RetryConfig { max_retries: 0, ..RetryConfig::default() })
            .with_http_connector(Transport { silence });
        store.build().unwrap()
    }

    #[tokio::test]
    async fn an_object_may_take_longer_to_send_than_a_store_may_be_silent() {
        let store = store(Duration::from_millis(200), 64 << 10);
        let sent = store.put(&Path::from("moss-map"), vec![7; 3 << 20].into()).await;
        assert!(sent.is_ok(), "{sent:?}");
    }
}
