//! A broker that speaks the Kafka protocol: topics with partitions, retention by time, idempotent and transactional
//! writers with fencing, committed offsets with metadata. One node, in memory, one user.
//!
//! It knows no consumer groups that share partitions among members: clients assign partitions themselves.

mod answer;
mod faults;
#[cfg(test)]
mod hostile;
mod log;
mod login;
mod shapes;
mod state;
mod transactions;
mod wire;

use std::io;
use std::net::{SocketAddr, TcpListener};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

pub use faults::COMMANDS;
use faults::Faults;
use state::State;
pub use state::TopicConfig;

/// How a broker is set up.
#[derive(Clone, Debug, Default)]
pub struct Setup {
    /// Where it listens; port 0 takes a free one.
    pub listen: Option<SocketAddr>,
    /// The address that it gives its clients, where that is another one: that of a proxy, say.
    pub advertise: Option<(String, u16)>,
    /// The name of its cluster.
    pub cluster: String,
    /// Topics that are there from the beginning.
    pub topics: Vec<(String, TopicConfig)>,
    /// How many partitions a topic gets that a client asks for and that is not there; 0 makes none.
    pub auto_partitions: u32,
    /// How long a client that waits for messages is kept waiting at most; None is half a minute.
    pub longest_wait: Option<Duration>,
    /// User and password that clients must give, by SASL PLAIN or SCRAM.
    pub login: Option<(String, String)>,
}

/// What all connections share.
pub(crate) struct Shared {
    pub setup: Setup,
    pub host: String,
    pub port: u16,
    state: Mutex<State>,
    faults: Mutex<Faults>,
    /// Notified when messages or ends of transactions come.
    pub news: Condvar,
}

impl Shared {
    pub(crate) fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn faults(&self) -> MutexGuard<'_, Faults> {
        self.faults.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Holds an answer back while the broker is to be slow or silent.
    pub(crate) fn wait_out_silence(&self) {
        let delay = self.faults().delay;
        std::thread::sleep(delay);
        while self.faults().silent {
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

/// A broker that serves until the program ends.
pub struct Broker {
    address: SocketAddr,
    shared: Arc<Shared>,
}

impl Broker {
    /// Starts to listen and to serve.
    ///
    /// # Errors
    /// Where the address cannot be listened on.
    pub fn start(setup: Setup) -> io::Result<Self> {
        let listen = setup.listen.unwrap_or_else(|| SocketAddr::from(([127, 0, 0, 1], 0)));
        let listener = TcpListener::bind(listen)?;
        let address = listener.local_addr()?;
        let (host, port) = setup.advertise.clone().unwrap_or_else(|| (address.ip().to_string(), address.port()));
        let mut state = State::default();
        for (name, config) in &setup.topics {
            state.make_topic(name, *config);
        }
        let shared = Arc::new(Shared {
            setup,
            host,
            port,
            state: Mutex::new(state),
            faults: Mutex::default(),
            news: Condvar::new(),
        });
        let (keeper, own) = (Arc::downgrade(&shared), Arc::clone(&shared));
        std::thread::spawn(move || {
            while let Some(shared) = keeper.upgrade() {
                shared.state().tidy();
                drop(shared);
                std::thread::sleep(Duration::from_millis(500));
            }
        });
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let shared = Arc::clone(&shared);
                std::thread::spawn(move || wire::serve(stream, &shared));
            }
        });
        Ok(Self { address, shared: own })
    }

    /// Carries out a command, one of [`COMMANDS`]; returns its answer.
    ///
    /// # Errors
    /// Where the line says nothing that is known, in words.
    pub fn command(&self, line: &str) -> Result<String, String> {
        faults::command(&self.shared, line)
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }
}
