//! `baricord serve`: brings the database up to date, loads the demo where asked, answers.

use crate::database::{DatabaseArgs, problem};
use crate::output::outln;
use crate::server::{self, Limits};
use crate::tls;
use baricord_core::error::Problem;
use baricord_web::{App, demo, pages_ahead, router, worker};
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
    #[command(flatten)]
    database: DatabaseArgs,
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

/// Serves until it is asked to stop.
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
    let store = a.database.open().await?;
    let mut is_empty = store.is_empty().await.map_err(problem)?;
    if a.demo && is_empty {
        demo::load(&store).await.map_err(|e| Problem::new("demo", e.to_string()))?;
        is_empty = false;
    }
    let listener = tokio::net::TcpListener::bind(a.listen).await.map_err(|e| {
        Problem::new("address-in-use", format!("cannot answer on {}: {e}; choose another with --listen", a.listen))
            .field("listen")
    })?;
    let worker = tokio::spawn(worker::run(store.clone()));
    let tls = if a.tls { Some(tls::own(&a.tls_folder, a.listen, &a.tls_names).await?) } else { None };
    outln!("Baricord answers on {}://{}", if a.tls { "https" } else { "http" }, a.listen);
    if let Some((_, fingerprint)) = &tls {
        outln!("Its own certificate, SHA-256 {fingerprint}: compare it with what the phone shows, once");
    }
    // The demo's people have a password that everybody knows.
    let demo_signs_in = a.demo && a.listen.ip().is_loopback();
    match (a.demo, demo_signs_in) {
        (true, true) => outln!("Sample sign-in: {}  password: {}", demo::EMAIL, demo::PASSWORD),
        (true, false) => outln!("The demo's people sign in on a loopback address only: --listen 127.0.0.1:8085"),
        _ => {}
    }
    if is_empty {
        outln!("No workshop yet. Make one and its owner, in another terminal with the same DATABASE_URL:");
        outln!("  baricord workshop add \"Your workshop\" --owner you@workshop.example");
    }
    let app = App::new(store, demo_signs_in);
    let ahead = tokio::spawn(pages_ahead::run(app.clone()));
    let closing = app.clone();
    let stop = async move {
        stop_signal().await;
        closing.close();
    };
    let app = router(app, a.secure_cookies || a.tls).into_make_service_with_connect_info::<SocketAddr>();
    server::serve(listener, tls.map(|t| t.0), app, Limits::default(), stop)
        .await
        .map_err(|e| Problem::new("serve", e.to_string()))?;
    worker.abort();
    ahead.abort();
    Ok(())
}

/// Ctrl-C or a polite kill.
async fn stop_signal() {
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
