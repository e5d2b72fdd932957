//! `cavrith export`

use std::fs::File;
use std::io::{IsTerminal as _, Write as _};
use std::path::Path;
use std::time::Instant;

use cavrith_core::oci::image::Compression;
use cavrith_core::setup::Setup;
use cavrith_core::spec::machine::Machine;
use cavrith_core::verdict::{count, size};
use cavrith_exchange::disk_file::Form;
use cavrith_exchange::layout::{self, Outgoing, PackedImage};
use cavrith_exchange::{layers, machine_disk};
use serde_json::json;

use crate::args::{Compress, DiskFormat, Export, ExportDisk, ExportTo, General};
use crate::build_env::BuildEnv;
use crate::commands::{Outcome, build as building, locked_project};
use crate::failure::Failure;
use crate::render::progress::{Where, seconds};
use crate::screen::{Screen, styled};

pub fn exec(general: &General, screen: &Screen, command: &Export) -> Outcome {
    let to = match command {
        Export::Oci(to) | Export::Root(to) => to,
        Export::Disk(to) => return disk(general, screen, to),
    };
    if to.path == Path::new("-") && std::io::stdout().is_terminal() {
        return Err(Failure::Own(
            2,
            "an archive is not for a terminal; name a file, or send it to a program".to_owned(),
        ));
    }
    let is_archive = matches!(command, Export::Root(_)) || to.path.extension().is_some_and(|ending| ending == "tar");
    if is_archive && !to_stdout(to) {
        layout::replaceable(&to.path)?;
    }
    match command {
        Export::Oci(to) => oci(general, screen, to),
        Export::Root(to) => root(general, screen, to),
        Export::Disk(to) => disk(general, screen, to),
    }
}

fn disk(general: &General, screen: &Screen, to: &ExportDisk) -> Outcome {
    let started = Instant::now();
    let (project, lock) = locked_project(general)?;
    let (Some(machine), Some(pin)) = (&project.spec.machine, &lock.debian) else {
        let text = "the spec has no [machine], so nobody knows with which kernel; add the table, and run cavrith lock";
        return Err(Failure::Own(2, text.to_owned()));
    };
    if to.path == Path::new("-") {
        let text = "a disk has holes, which standard output cannot have; name a file";
        return Err(Failure::Own(2, text.to_owned()));
    }
    let is_qcow2 = to.path.extension().is_some_and(|ending| ending == "qcow2");
    let form = match to.format {
        Some(DiskFormat::Qcow2) => Form::Qcow2,
        None if is_qcow2 => Form::Qcow2,
        Some(DiskFormat::Raw) | None => Form::Raw,
    };
    layout::replaceable(&to.path)?;
    let build_env = BuildEnv::open()?;
    let record = building::ensure(screen, &build_env, &project, &lock)?.record;
    let setup = Setup::new(&project.spec, &lock, &record.shell);
    let written = building::with_progress(screen, &build_env, Where::Nowhere, false, |context| {
        let starts = machine_disk::started(
            context,
            &project,
            pin,
            (machine, &setup, &record),
            (lock.epoch, lock.seal.as_ref()),
        )?;
        if let Some(dir) = &to.kernel_files {
            machine_disk::write_kernel(&starts, dir)?;
        }
        let write =
            |file: &mut File| machine_disk::write(context, &record, &starts, lock.epoch, (file, &to.path, form));
        Ok(layout::whole_file(&to.path, write)?)
    })?;
    if to.report.json {
        screen.json(&json!({
            "image": record.image,
            "bytes": written.bytes,
            "file_bytes": written.file_bytes,
            "root": written.root,
            "root_bytes": written.root_bytes,
            "kernel": written.kernel,
            "memory": machine.memory,
            "cpus": machine.cpus,
            "path": to.path,
        }));
    } else if !screen.quiet {
        let (path, took) = (to.path.display(), seconds(started.elapsed().as_millis() as u64));
        let (what, kernel) = (size(written.bytes), &written.kernel);
        screen
            .result(format_args!("{} {path}  {what}, Linux {kernel}, in {took}", styled(screen.out.good, "exported")));
        if let Some(dir) = &to.kernel_files {
            screen.say("QEMU, for example, starts it by");
            // As it is typed, however wide the terminal is.
            screen.verbatim(by_qemu(machine, &to.path, form, dir));
        }
    }
    Ok(0)
}

/// Whether the export itself goes to standard output, so that nothing else may.
fn to_stdout(to: &ExportTo) -> bool {
    to.path == Path::new("-")
}

fn oci(general: &General, screen: &Screen, to: &ExportTo) -> Outcome {
    let started = Instant::now();
    let (project, lock) = locked_project(general)?;
    let build_env = BuildEnv::open()?;
    let built = building::ensure(screen, &build_env, &project, &lock)?;
    let outgoing = Outgoing::new(&project.spec, &lock, &built.record);
    let subject = outgoing.subject(to.compress.map_or(Compression::Gzip, compression));
    let archive = to_stdout(to) || to.path.extension().is_some_and(|ending| ending == "tar");
    let packed = building::with_progress(screen, &build_env, Where::Nowhere, false, |context| {
        let on_layer = |name: &str| {
            (context.observer)(cavrith_engine::event::Event::Stage { text: format!("packing {name}") });
        };
        Ok(PackedImage::new(context.store, context.staging, &built.record, subject, &on_layer)?)
    })?;
    if to_stdout(to) {
        let mut out = std::io::stdout().lock();
        packed.write_archive(lock.epoch, &mut out, &to.path)?;
    } else if archive {
        layout::whole_file(&to.path, |file| {
            let mut out = std::io::BufWriter::with_capacity(1 << 20, file);
            packed.write_archive(lock.epoch, &mut out, &to.path)
        })?;
    } else {
        packed.write_folder(&to.path)?;
    }
    let descriptor = &packed.documents.descriptor;
    let bytes: u64 = packed.layers.iter().map(|(layer, _)| layer.size).sum();
    let layers = packed.layers.len();
    if to.report.json && !to_stdout(to) {
        screen.json(&json!({
            "image": built.record.image,
            "manifest": descriptor.digest,
            "layers": packed.layers.iter().map(|(layer, _)| layer).collect::<Vec<_>>(),
            "bytes": bytes,
            "path": to.path,
        }));
    } else {
        done(
            screen,
            to,
            format_args!("{} of {}, sha256:{}", count(layers, "layer"), size(bytes), descriptor.digest.0),
            started,
        );
    }
    Ok(0)
}

fn root(general: &General, screen: &Screen, to: &ExportTo) -> Outcome {
    let started = Instant::now();
    let (project, lock) = locked_project(general)?;
    let build_env = BuildEnv::open()?;
    let record = building::ensure(screen, &build_env, &project, &lock)?.record;
    let compression = to.compress.map_or_else(|| layout::compression_of(&to.path), compression);
    let store = &build_env.store_session.store;
    let packed = if to_stdout(to) {
        let mut out = std::io::stdout();
        let packed = layers::write_root(store, &record, compression, &mut out, &to.path)?;
        // Nobody else has buffered anything.
        let _ = out.flush();
        packed
    } else {
        layout::whole_file(&to.path, |file| layers::write_root(store, &record, compression, file, &to.path))?
    };
    if to.report.json && !to_stdout(to) {
        screen.json(&json!({
            "image": record.image,
            "sha256": packed.packed,
            "bytes": packed.packed_size,
            "archive_sha256": packed.plain,
            "archive_bytes": packed.plain_size,
            "path": to.path,
        }));
    } else {
        done(screen, to, format_args!("{}, sha256:{}", size(packed.packed_size), packed.packed), started);
    }
    Ok(0)
}

/// A command that starts a disk with a kernel that is handed over.
fn by_qemu(machine: &Machine, disk: &Path, form: Form, kernel: &Path) -> String {
    let quoted = |path: &Path| format!("'{}'", path.display().to_string().replace('\'', "'\\''"));
    let format = if form == Form::Qcow2 { "qcow2" } else { "raw" };
    // A comma would begin another option there.
    let file = quoted(Path::new(&disk.display().to_string().replace(',', ",,")));
    let [vmlinuz, initrd, words] = ["vmlinuz", "initrd", "cmdline"].map(|name| quoted(&kernel.join(name)));
    format!(
        "qemu-system-x86_64 -machine q35 -m {} -smp {} -nographic -drive if=virtio,format={format},file={file} \
         -kernel {vmlinuz} -initrd {initrd} -append \"$(cat {words})\"",
        machine.memory >> 20,
        machine.cpus
    )
}

/// As the command line names it.
pub fn compression(wanted: Compress) -> Compression {
    match wanted {
        Compress::None => Compression::None,
        Compress::Gzip => Compression::Gzip,
        Compress::Zstd => Compression::Zstd,
    }
}

fn done(screen: &Screen, to: &ExportTo, what: std::fmt::Arguments<'_>, started: Instant) {
    let took = seconds(started.elapsed().as_millis() as u64);
    if to_stdout(to) {
        screen.say(format_args!("{} {what}, in {took}", styled(screen.err.good, "exported")));
    } else if !screen.quiet {
        let path = to.path.display();
        screen.result(format_args!("{} {path}  {what}, in {took}", styled(screen.out.good, "exported")));
    }
}
