"""`rustfern completion`: what a shell needs to complete commands, options, ids of copies and names of documents."""

from __future__ import annotations

import sys

import click
from click.shell_completion import CompletionItem, ShellComplete, add_completion_class, get_completion_class

from rustfern.cli.options import json_option

_VARIABLE = "_RUSTFERN_COMPLETE"
_SHELLS = ("bash", "zsh", "fish", "powershell")
_WHERE = {
    "bash": 'add to ~/.bashrc:      eval "$(rustfern completion bash)"',
    "zsh": 'add to ~/.zshrc:       eval "$(rustfern completion zsh)"',
    "fish": "save as ~/.config/fish/completions/rustfern.fish",
    "powershell": "add to $PROFILE:       rustfern completion powershell | Out-String | Invoke-Expression",
}


@add_completion_class
class PowerShell(ShellComplete):
    """Completion for PowerShell: a native argument completer that asks the program."""

    name = "powershell"
    source_template = """\
Register-ArgumentCompleter -Native -CommandName %(prog_name)s -ScriptBlock {
    param($wordToComplete, $commandAst, $cursorPosition)
    $env:%(complete_var)s = "powershell_complete"
    $env:COMP_LINE = $commandAst.ToString()
    $env:COMP_WORD = $wordToComplete
    try {
        %(prog_name)s | ForEach-Object {
            $value, $help = $_ -split "`t", 2
            if (-not $help) { $help = $value }
            [System.Management.Automation.CompletionResult]::new($value, $value.Trim("'"), "ParameterValue", $help)
        }
    } finally {
        Remove-Item Env:%(complete_var)s, Env:COMP_LINE, Env:COMP_WORD
    }
}
"""

    def get_completion_args(self) -> tuple[list[str], str]:
        import os
        import shlex

        word = os.environ.get("COMP_WORD", "")
        line = os.environ.get("COMP_LINE", "")
        try:
            words = shlex.split(line, posix=True)[1:]
        except ValueError:
            words = line.split()[1:]
        if word and words and words[-1].strip("'\"") == word.strip("'\""):
            words.pop()
        return words, word.strip("'\"")

    def format_completion(self, item: CompletionItem) -> str:
        value = str(item.value)
        quoted = "'" + value.replace("'", "''") + "'" if any(sign in value for sign in " ()&;'") else value
        return f"{quoted}\t{item.help}" if item.help else quoted


@click.command()
@click.argument("shell", type=click.Choice(_SHELLS))
@json_option
def command(shell: str, as_json: bool) -> int:
    """Print the script that makes a shell complete commands, options, ids of copies and names of documents.

    \b
    Examples:
      eval "$(rustfern completion bash)"        for this shell; add it to ~/.bashrc to keep it
      rustfern completion fish > ~/.config/fish/completions/rustfern.fish
      rustfern completion powershell | Out-String | Invoke-Expression
    """
    from rustfern.cli import main
    from rustfern.cli.options import print_json
    from rustfern.operations import command_schema

    found = get_completion_class(shell)
    assert found is not None
    script = found(main, {}, "rustfern", _VARIABLE).source()
    if as_json:
        print_json(command_schema.completion(shell, script, _WHERE[shell]))
    else:
        click.echo(script)
        if sys.stdout.isatty():
            # Where a shell reads the script at each start, nobody asks how to keep it.
            click.echo(f"rustfern: to keep it, {_WHERE[shell]}", err=True)
    return 0
