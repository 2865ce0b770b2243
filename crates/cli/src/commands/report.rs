//! `fairtrial report`: a record for others, as a page, a table, or plots.

use std::fs;
use std::io::Write;
use std::path::Path;

use fairtrial_record::{Record, RecordError, Selection};
use fairtrial_report::{
    Painter, RankingLayout, StandingsExtras, StandingsOptions, StandingsSource, StandingsView,
    VerdictSource, frontier_grids, grid_csv, grid_markdown, junit_xml, matrix_grid, notes_markdown,
    plots, report_html, report_view, standalone, standings_grids, standings_json, standings_notes,
    trial_list,
};
use tempfile::NamedTempFile;

use crate::args::{ReportArgs, ReportFormat};
use crate::errors::Failure;

/// Writes the report, the plots, or both.
pub fn run(args: &ReportArgs, out: &mut dyn Write, err: &mut dyn Write) -> Result<u8, Failure> {
    let records: Vec<Record> =
        args.records.iter().map(|it| Record::open(it)).collect::<Result<_, RecordError>>()?;
    let source = StandingsSource::open(&records, args.grading.unwrap_or_default())?;
    let options = StandingsOptions {
        only: args.only.clone(),
        within: args.at_attempt,
        ..StandingsOptions::default()
    };
    let view = report_view(&source, &options)?;
    if let Some(folder) = &args.plots {
        write_plots(folder, &view.standings, args.png, err)?;
    }
    let Some(file) = &args.out else { return Ok(0) };
    let format = match args.format {
        Some(format) => format,
        None => ReportFormat::of(file).ok_or_else(|| Failure::NoFormat(file.clone()))?,
    };
    let is_chosen = !args.only.is_empty() || args.at_attempt.is_some() || args.grading.is_some();
    if format == ReportFormat::Junit && is_chosen {
        return Err(Failure::JunitIsWhole);
    }
    let write = |to: &mut dyn Write| -> Result<(), Failure> {
        match format {
            ReportFormat::Html => report_html(to, &view, &source, args.unseal)?,
            ReportFormat::Json => {
                let extras = StandingsExtras {
                    matrix: Some(view.matrix.clone()),
                    ..StandingsExtras::default()
                };
                standings_json(to, &view.standings, &extras)?;
            }
            ReportFormat::Markdown => markdown(to, &view.standings, &matrix_grid(&view.matrix))?,
            ReportFormat::Csv => grid_csv(to, &matrix_grid(&view.matrix))?,
            ReportFormat::Junit => {
                let mut all = Vec::new();
                for (record, names) in source.named_records() {
                    let mut trials = trial_list(record, &Selection::default())?;
                    for trial in &mut trials {
                        if let Some(&name) = names.get(trial.key.candidate.as_str()) {
                            name.clone_into(&mut trial.key.candidate);
                        }
                    }
                    all.extend(trials);
                }
                junit_xml(to, &view.standings.title, &all)?;
            }
        }
        Ok(())
    };
    if file == Path::new("-") {
        write(out)?;
        return Ok(0);
    }
    into_file(file, &write)?;
    writeln!(err, "report: {}", file.display())?;
    Ok(0)
}

/// Writes the page of a record, without anything sealed.
pub fn write_page(record: &Path, file: &Path) -> Result<(), Failure> {
    let records = [Record::open(record)?];
    let source = StandingsSource::open(&records, VerdictSource::First)?;
    let view = report_view(&source, &StandingsOptions::default())?;
    into_file(file, &|to| Ok(report_html(to, &view, &source, false)?))
}

/// Writes a file as a whole or not at all: to a temporary name, then renamed.
fn into_file(
    file: &Path,
    write: &dyn Fn(&mut dyn Write) -> Result<(), Failure>,
) -> Result<(), Failure> {
    let failed = |source| Failure::File { what: "write", path: file.to_owned(), source };
    let folder = file.parent().filter(|it| !it.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut temporary = NamedTempFile::new_in(folder).map_err(failed)?;
    {
        let mut buffered = std::io::BufWriter::new(temporary.as_file_mut());
        write(&mut buffered)?;
        buffered.flush().map_err(failed)?;
    }
    readable(temporary.path()).map_err(failed)?;
    temporary.persist(file).map_err(|it| failed(it.error))?;
    Ok(())
}

/// A file that is to be shown to others is readable by them, as far as the folder lets them.
fn readable(path: &Path) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt as _;
    fs::set_permissions(path, fs::Permissions::from_mode(0o644))
}

fn markdown(
    out: &mut dyn Write,
    view: &StandingsView,
    matrix: &fairtrial_report::Grid,
) -> Result<(), Failure> {
    let ranking = StandingsView { slices: Vec::new(), ..view.clone() };
    let layout = RankingLayout::default();
    let mut grids = standings_grids(&ranking, &layout);
    grids.extend(standings_grids(view, &layout));
    grids.extend(frontier_grids(view));
    grids.push(matrix.clone());
    grids.iter().try_for_each(|it| grid_markdown(out, it))?;
    notes_markdown(out, &standings_notes(view))?;
    Ok(())
}

fn write_plots(
    folder: &Path,
    view: &StandingsView,
    as_png: bool,
    err: &mut dyn Write,
) -> Result<(), Failure> {
    let failed = |path: &Path| {
        let path = path.to_owned();
        move |source| Failure::File { what: "write", path, source }
    };
    fs::create_dir_all(folder).map_err(failed(folder))?;
    let painter = as_png.then(Painter::new).transpose()?;
    for plot in plots(view) {
        let svg = standalone(&plot);
        let (path, bytes) = match &painter {
            Some(painter) => (folder.join(format!("{}.png", plot.name)), painter.png(&svg)?),
            None => (folder.join(format!("{}.svg", plot.name)), svg.into_bytes()),
        };
        fs::write(&path, bytes).map_err(failed(&path))?;
        writeln!(err, "plot: {}", path.display())?;
    }
    Ok(())
}
