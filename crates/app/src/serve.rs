//! `baricord serve`: brings the database up to date, loads the demo where asked, answers.

use crate::tls;
use baricord_core::problem::Problem;
use baricord_store::Store;
use baricord_web::{App, demo, router, worker};
use clap::Args;
use std::net::SocketAddr;

/// Options of `serve`; each may come from the environment.
#[derive(Args)]
pub struct ServeArgs {
    /// Load the demo workshop into an empty database and print the sample sign-in.
    #[arg(long)]
    demo: bool,
    /// Address to answer on.
    #[arg(long, env = "BARICORD_LISTEN", default_value = "127.0.0.1:8085")]
    listen: SocketAddr,
    /// Database as the application's role.
    #[arg(long, env = "DATABASE_URL", hide_env_values = true)]
    database: String,
    /// Database as its owner, for bringing it up to date; left out when someone else does that.
    #[arg(long, env = "DATABASE_OWNER_URL", hide_env_values = true)]
    owner: Option<String>,
    /// Cookies only over TLS: for a server behind a proxy that speaks it.
    #[arg(long, env = "BARICORD_SECURE_COOKIES")]
    secure_cookies: bool,
    /// Speak TLS with a certificate of its own making, kept in --tls-folder: for phones in the same network.
    #[arg(long, env = "BARICORD_TLS")]
    tls: bool,
    /// Where the certificate and its key are kept.
    #[arg(long, env = "BARICORD_TLS_FOLDER", default_value = "baricord-tls")]
    tls_folder: std::path::PathBuf,
    /// More names or addresses by which phones reach this server, for the certificate.
    #[arg(long = "tls-name", env = "BARICORD_TLS_NAMES", value_delimiter = ',')]
    tls_names: Vec<String>,
}

fn trouble(code: &str) -> impl Fn(String) -> Problem + '_ {
    move |m| Problem::new(code, m)
}

/// Serves until it is told to stop.
pub fn run(a: ServeArgs) -> Result<(), Problem> {
    tracing_subscriber::fmt()
        .with_env_filter(
            tracing_subscriber::EnvFilter::try_from_default_env().unwrap_or_else(|_| "info,sqlx=warn,tower_sessions=warn".into()),
        )
        .with_writer(std::io::stderr)
        .init();
    let runtime = tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .build()
        .map_err(|e| Problem::new("cannot-start", e.to_string()))?;
    runtime.block_on(serve(a))
}

async fn serve(a: ServeArgs) -> Result<(), Problem> {
    if let Some(owner) = &a.owner {
        Store::migrate(owner)
            .await
            .map_err(|e| trouble("database")(format!("the database cannot be brought up to date: {e}")))?;
        baricord_web::prepare_sessions(owner).await.map_err(trouble("database"))?;
    }
    let store =
        Store::connect(&a.database).await.map_err(|e| trouble("database")(format!("the database does not answer: {e}")))?;
    if a.demo && store.is_empty().await.map_err(|e| trouble("database")(e.to_string()))? {
        demo::load(&store).await.map_err(|e| trouble("demo")(e.to_string()))?;
    }
    let listener = tokio::net::TcpListener::bind(a.listen).await.map_err(|e| {
        Problem::new("address-in-use", format!("cannot answer on {}: {e}; choose another with --listen", a.listen))
            .field("listen")
    })?;
    let worker = tokio::spawn(worker::run(store.clone()));
    let tls = if a.tls { Some(tls::own(&a.tls_folder, a.listen, &a.tls_names).await?) } else { None };
    println!("Baricord answers on {}://{}", if a.tls { "https" } else { "http" }, a.listen);
    if let Some((_, fingerprint)) = &tls {
        println!("Its own certificate, SHA-256 {fingerprint}: compare it with what the phone shows, once");
    }
    if a.demo {
        println!("Sample sign-in: {}  password: {}", demo::EMAIL, demo::PASSWORD);
    }
    let app = router(App { store, demo: a.demo }, a.secure_cookies || a.tls).into_make_service_with_connect_info::<SocketAddr>();
    let ended = match tls {
        None => axum::serve(listener, app).with_graceful_shutdown(stop()).await,
        Some((config, _)) => tls::serve(listener, config, app, stop()).await,
    };
    ended.map_err(|e| Problem::new("serve", e.to_string()))?;
    worker.abort();
    Ok(())
}

/// Ctrl-C or a polite kill.
async fn stop() {
    let mut term = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate()).ok();
    let terminated = async {
        match term.as_mut() {
            Some(t) => {
                t.recv().await;
            }
            None => std::future::pending().await,
        }
    };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        () = terminated => {}
    }
}
