//! The reference of all commands, made from what the command line is.

use clap::{Arg, Command};

/// Returns the reference in Markdown.
pub(crate) fn markdown(program: &Command) -> String {
    let mut text = "# Commands\n\nMade by `eskort man --reference`.\n".to_owned();
    section(program, &mut text);
    text
}

fn section(command: &Command, text: &mut String) {
    let usage = command.clone().render_usage().to_string();
    let usage = usage.trim_start_matches("Usage: ").trim();
    let name = command.get_bin_name().unwrap_or_else(|| command.get_name());
    let about = command.get_about().map(ToString::to_string).unwrap_or_default();
    *text += &format!("\n## `{name}`\n\n{about}.\n\n```text\n{usage}\n```\n");
    // What all commands take is said once, of the program.
    let is_program = name == command.get_name();
    let arguments = command.get_arguments().filter(|arg| !arg.is_hide_set() && arg.get_id() != "help");
    let rows: Vec<String> = arguments.filter(|arg| is_program || !arg.is_global_set()).map(row).collect();
    if !rows.is_empty() {
        *text += "\n| argument | meaning |\n| --- | --- |\n";
        rows.iter().for_each(|row| *text += row);
    }
    if let Some(after) = command.get_after_help() {
        *text += &format!("\n{}\n", after.to_string().split_whitespace().collect::<Vec<_>>().join(" "));
    }
    command.get_subcommands().filter(|below| !below.is_hide_set()).for_each(|below| section(below, text));
}

fn row(arg: &Arg) -> String {
    let mut meaning = arg.get_help().map(ToString::to_string).unwrap_or_default();
    let values: Vec<String> = arg.get_possible_values().iter().map(|value| format!("`{}`", value.get_name())).collect();
    let takes_value = arg.get_action().takes_values();
    if !values.is_empty() && takes_value {
        meaning += &format!("; one of {}", values.join(", "));
    }
    let default = arg.get_default_values().first().filter(|_| takes_value);
    if let Some(default) = default {
        meaning += &format!(" (default `{}`)", default.to_string_lossy());
    }
    format!("| `{}` | {} |\n", arg.to_string().replace('|', "\\|"), meaning.replace('|', "\\|"))
}
