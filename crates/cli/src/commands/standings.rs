//! `fairtrial standings`: the ranking, and what it is made of.

use std::io::Write;

use fairtrial_record::{Record, RecordError};
use fairtrial_report::{
    Grid, RankingLayout, StandingsExtras, StandingsOptions, StandingsSource, alike_grid,
    alike_view, comparison_grid, frontier_grids, grid_csv, grid_markdown, grids_with_notes,
    matrix_grid, matrix_view, notes_markdown, pairs_grid, standings, standings_grids,
    standings_head, standings_json, standings_notes, standings_view, tasks_grid, tasks_view,
};

use crate::args::{StandingsArgs, StandingsPart};
use crate::environment::Environment;
use crate::errors::Failure;

/// Writes the standings of records.
pub fn run(
    args: &StandingsArgs,
    environment: &Environment,
    out: &mut dyn Write,
) -> Result<u8, Failure> {
    let records: Vec<Record> =
        args.records.iter().map(|it| Record::open(it)).collect::<Result<_, RecordError>>()?;
    let source = StandingsSource::open(&records, args.grading.unwrap_or_default())?;
    let options = StandingsOptions {
        by: args.by.clone(),
        only: args.only.clone(),
        within: args.at_attempt,
        budget: args.budget,
    };
    let mut layout = RankingLayout { sort: args.sort, ..RankingLayout::default() };
    if !args.columns.is_empty() {
        layout.columns.clone_from(&args.columns);
    }
    let view = standings_view(&source, &options)?;
    let scope = source.scope(&options.only, options.within)?;
    let StandingsPart { matrix, pairs, tasks, alike, frontier } = args.part;
    let extras = StandingsExtras {
        matrix: matrix.then(|| matrix_view(&source, &scope)),
        tasks: tasks.then(|| tasks_view(&source, &scope)).transpose()?,
        alike: alike.then(|| alike_view(&source, &scope)).transpose()?,
    };
    if args.format.json {
        standings_json(out, &view, &extras)?;
        return Ok(0);
    }
    let grids: Vec<Grid> = match &extras {
        StandingsExtras { matrix: Some(matrix), .. } => vec![matrix_grid(matrix)],
        StandingsExtras { tasks: Some(tasks), .. } => vec![tasks_grid(tasks)],
        StandingsExtras { alike: Some(alike), .. } => vec![alike_grid(alike)],
        _ if pairs => {
            let names: Vec<String> = view.rows.iter().map(|it| it.name.clone()).collect();
            let list = comparison_grid(&view.comparisons);
            if args.format.csv {
                vec![list]
            } else {
                vec![pairs_grid(&names, &view.comparisons), list]
            }
        }
        _ if frontier => frontier_grids(&view),
        _ => standings_grids(&view, &layout),
    };
    if args.format.csv {
        grids.first().map(|it| grid_csv(out, it)).transpose()?;
    } else if args.format.markdown {
        grids.iter().try_for_each(|it| grid_markdown(out, it))?;
        notes_markdown(out, &standings_notes(&view))?;
    } else if matrix || pairs || tasks || alike || frontier {
        standings_head(out, &view, environment.style())?;
        grids_with_notes(out, &grids, &view, environment.style())?;
    } else {
        standings(out, &view, &layout, environment.style())?;
    }
    Ok(0)
}
