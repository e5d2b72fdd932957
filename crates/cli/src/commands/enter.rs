//! `cavrith enter` and `cavrith run`

use std::sync::atomic::Ordering;

use cavrith_sandbox::job::Ending;
use cavrith_workspace::entering::{self, Visit};
use cavrith_workspace::ports::Carried;

use crate::args::General;
use crate::bench::{self, Bench};
use crate::commands::{Outcome, build, locked_project};
use crate::render::progress::Where;
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, argv: &[String]) -> Outcome {
    let (project, lock) = locked_project(general)?;
    let bench = Bench::open()?;
    let built = build::ensure(screen, &bench, &project, &lock)?;
    let tell_ports = |ports: &[Carried]| {
        for port in ports {
            let why = if port.outside == port.wanted { String::new() } else { format!(" ({} is taken)", port.wanted) };
            let name = styled(screen.err.strong, &port.name);
            screen.say(format_args!("port {name}: 127.0.0.1:{}{why} → {} inside", port.outside, port.inside));
        }
        // From here on the terminal and its signals are the command's.
        bench::ATTENDING.store(true, Ordering::SeqCst);
    };
    let visit = Visit {
        home: &bench.shed.home,
        project: &project,
        lock: &lock,
        record: &built.record,
        argv,
        tell_ports: &tell_ports,
    };
    let ending =
        build::with_progress(screen, &bench, Where::Aside, false, |workshop| Ok(entering::enter(workshop, visit)?))?;
    drop(bench);
    if let Ending::Signal(signal) = ending {
        // Ends as the command ended, so that whoever called sees the same.
        let _ = signal_hook::low_level::emulate_default_handler(signal);
    }
    Ok(u8::try_from(ending.as_code()).unwrap_or(255))
}
