//! The commands. Each reads a case or an object, calls the core, prints JSON or a few lines.

use crate::output::outln;
use baricord_core::analysis::Analysis;
use baricord_core::calc;
use baricord_core::error::Problem;
use baricord_core::reasoning::knowledge::builtin;
use baricord_core::reasoning::wording::{answers_words, factor_words, ranked_words};
use baricord_formats::{CaseSource, answers};
use clap::{Parser, Subcommand};
use serde::Serialize;
use serde_json::Value;
use std::io::Read;
use std::path::{Path, PathBuf};

/// Traces driveline vibration and noise to a part, and proves the repair.
#[derive(Parser)]
#[command(name = "baricord", version, about)]
pub struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Order work on the recordings of a case.
    Analyze {
        /// Folder, zip or case.json.
        case: PathBuf,
        /// Only this recording.
        #[arg(long)]
        recording: Option<String>,
        /// As JSON.
        #[arg(long)]
        json: bool,
    },
    /// Ranked causes for each symptom, and the next tests.
    Diagnose {
        /// Folder, zip or case.json.
        case: PathBuf,
        /// As JSON.
        #[arg(long)]
        json: bool,
    },
    /// The first three steps for every kind of symptom on every layout.
    FirstSteps {
        /// As JSON.
        #[arg(long)]
        json: bool,
    },
    /// Steps, schedule, kit and restore list of the repairs that stand in a case.
    RepairPlan {
        /// Folder, zip or case.json.
        case: PathBuf,
        /// As JSON.
        #[arg(long)]
        json: bool,
        /// What is off is put back as it was, unrepaired.
        #[arg(long)]
        put_back: bool,
    },
    /// Before against after, order by order.
    Verify {
        /// Folder, zip or case.json.
        case: PathBuf,
        /// As JSON.
        #[arg(long)]
        json: bool,
    },
    /// The web application.
    Serve(crate::serve::ServeArgs),
    /// Workshops of an installation.
    #[command(subcommand)]
    Workshop(crate::people::WorkshopCommand),
    /// People of an installation.
    #[command(subcommand)]
    Person(crate::people::PersonCommand),
    /// A case with recordings made by the simulator.
    Simulate(crate::simulate::SimulateArgs),
    /// One calculation, JSON on standard input to JSON on standard output.
    Calc {
        /// tyre, speeds, orders, angles, runout, critical-speed, bearing, separability.
        name: String,
    },
}

/// Runs a command.
pub fn run(cli: Cli) -> Result<(), Problem> {
    match cli.command {
        Command::Analyze { case, recording, json } => analyze(&case, recording.as_deref(), json),
        Command::Diagnose { case, json } => diagnose(&case, json),
        Command::FirstSteps { json } => first_steps(json),
        Command::RepairPlan { case, json, put_back } => crate::plan_output::repair_plan(&case, json, put_back),
        Command::Verify { case, json } => prove(&case, json),
        Command::Serve(a) => crate::serve::run(a),
        Command::Workshop(c) => with_database(crate::people::workshop(c)),
        Command::Person(c) => with_database(crate::people::person(c)),
        Command::Simulate(a) => crate::simulate::run(a),
        Command::Calc { name } => {
            let mut text = String::new();
            std::io::stdin()
                .read_to_string(&mut text)
                .map_err(|e| Problem::new("cannot-read", format!("standard input: {e}")))?;
            let input: Value = serde_json::from_str(&text)
                .map_err(|e| Problem::new("not-json", format!("standard input is not JSON: {e}")).line(e.line() as u64))?;
            print_json(&calc::calc(&name, &input)?)
        }
    }
}

fn with_database(work: impl Future<Output = Result<(), Problem>>) -> Result<(), Problem> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    runtime.map_err(|e| Problem::new("cannot-start", e.to_string()))?.block_on(work)
}

pub(crate) fn print_json<T: Serialize>(value: &T) -> Result<(), Problem> {
    let text = serde_json::to_string_pretty(value).map_err(|e| Problem::new("cannot-write", e.to_string()))?;
    outln!("{text}");
    Ok(())
}

fn analyze(path: &Path, only: Option<&str>, json: bool) -> Result<(), Problem> {
    let found = answers::analyze(&CaseSource::open(path)?, only)?;
    if json {
        print_json(&found)?;
    } else {
        print_analysis(&found);
    }
    Ok(())
}

fn first_steps(json: bool) -> Result<(), Problem> {
    let all = baricord_core::reasoning::first_steps::first_steps(builtin())?;
    if json {
        return print_json(&all);
    }
    outln!("# First steps");
    outln!("");
    outln!("What the program proposes first for each kind of symptom on each layout, where nothing else is known: the plan's");
    outln!("steps with their minutes from the ground, and its first suspects. Made by `baricord first-steps`; a test says what");
    outln!("changed.");
    outln!("{}", baricord_core::reasoning::first_steps::table(&all).trim_end());
    Ok(())
}

fn print_analysis(a: &Analysis) {
    for r in &a.recordings {
        outln!("{}", r.id);
        if let Some(f) = &r.reference {
            let lag = f.lag_s.map(|l| format!("The speed signal is {l:.2} s late.")).or(f.delay_words()).unwrap_or_default();
            outln!("  {lag} Tyre scale {:.4} ± {:.4}", f.scale, f.scale_sigma);
        }
        for o in &r.orders {
            let (a, s) = o.level();
            let base = if o.base == baricord_core::measure::orders::Base::Engine { "engine" } else { "wheel" };
            outln!(
                "  {:8.3} ± {:.3} per {base} turn  {a:.3} ± {s:.3} at {:.0} km/h ({:.1} Hz)  {}",
                o.order,
                o.order_sigma,
                o.peak_speed_kmh,
                o.peak_hz,
                o.sources.iter().take(3).map(|s| format!("{}@{}", s.fault, s.at)).collect::<Vec<_>>().join(", ")
            );
        }
        for p in &r.pulses {
            outln!("  {:8.3} pulses per wheel turn, {:.1} dB", p.per_wheel_turn, p.strength);
        }
        for e in &r.events {
            outln!("  knock at {:.2} s in {}, {:.0} dB", e.at_s, e.channel, e.strength);
        }
        for x in &r.resonances {
            outln!("  resonance near {:.1} Hz, fed by {:.2?}", x.hz, x.orders);
        }
        for b in &r.beats {
            outln!("  {:8.3} beats every {:.1} s: two orders {:.4} of a wheel turn apart", b.order, b.period_s, b.gap);
        }
        if let Some(s) = &r.slip {
            outln!("  the converter slips {:.1} ± {:.1} %", s.percent, s.sigma_percent);
        }
        for o in r.orders.iter().filter(|o| o.only_in_gear.is_some()) {
            outln!("  {:8.3} only in gear {}", o.order, o.only_in_gear.as_deref().unwrap_or_default());
        }
        for w in &r.warnings {
            outln!("  ! {}: {}", w.code, w.message);
        }
    }
}

fn diagnose(path: &Path, json: bool) -> Result<(), Problem> {
    let (case, d) = answers::diagnose(&CaseSource::open(path)?)?;
    if json {
        return print_json(&d);
    }
    let k = builtin();
    for s in &d.symptoms {
        outln!("{}", s.id);
        for r in s.ranked.iter().take(6) {
            outln!("  {:3.0} %  {}", 100.0 * r.p, ranked_words(k, &case.vehicle, r));
            for b in r.because.iter().take(3) {
                outln!("         {}  {}", factor_words(b.bits), b.evidence);
            }
        }
        for n in s.next.iter().take(3) {
            let ask = k.test(&n.test).map_or(n.test.as_str(), |t| t.ask.as_str());
            let at = n.at.as_deref().map(|a| format!(", {}", case.vehicle.place_words(a))).unwrap_or_default();
            outln!("  next: {ask}{at}: {:.0} min, {}", n.minutes, answers_words(n.bits, s.open_bits));
        }
    }
    for w in &d.warnings {
        outln!("! {}: {}", w.code, w.message);
    }
    Ok(())
}

fn prove(path: &Path, json: bool) -> Result<(), Problem> {
    let v = answers::prove(&CaseSource::open(path)?)?;
    if json {
        return print_json(&v);
    }
    for s in &v.symptoms {
        outln!("{}: {}", s.id, s.verdict.words());
        for o in &s.orders {
            let change = match (o.change_db, o.interval_db) {
                (Some(c), Some([lo, hi])) => format!("{c:+.1} dB ({lo:+.1} to {hi:+.1})"),
                _ => format!("not comparable: {}", o.reasons.join(", ")),
            };
            outln!("  {:8.3}  {change}  {}", o.order, o.verdict.words());
        }
    }
    Ok(())
}
