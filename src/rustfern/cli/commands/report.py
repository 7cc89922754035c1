"""`rustfern report`: the page for the customer, the record for the file, tables for programs."""

from __future__ import annotations

import os

import click

from rustfern.cases import manage
from rustfern.cases.case_file import roots_of
from rustfern.cli.context import this_run
from rustfern.cli.options import case_at, case_option, json_option, language_option, print_json
from rustfern.core.errors import WrongUsage
from rustfern.core.paths import show_name
from rustfern.operations.targets import write_new


@click.command()
@click.option(
    "--over", "over", metavar="DIR", help="One page over the answers about many roots (`scan --list FILE --out DIR`)."
)
@click.option("--to", "target", metavar="FILE", help="Write the page here (.html), or the table (.csv).")
@click.option("--for", "form", type=click.Choice(["customer", "record"]), default="customer", help="Whom it is for.")
@click.option("--person", metavar="NAME", help="Only the documents of this person.")
@click.option("--ticket", default="", metavar="TEXT", help="The number of the job.")
@click.option("--technician", default="", metavar="NAME", help="Who did it.")
@click.option("--consent", default="", metavar="TEXT", help="Who agreed to the search, and when (for the record).")
@language_option
@click.option("--csv", "as_csv", is_flag=True, help="A line for each copy on stdout, parted by commas.")
@case_option
@json_option
def command(
    over: str | None,
    target: str | None,
    form: str,
    person: str | None,
    ticket: str,
    technician: str,
    consent: str,
    language: str | None,
    as_csv: bool,
    case: str | None,
    as_json: bool,
) -> int:
    """Write what was found and restored: one page in plain words for the customer, or the full record.

    The page is one file without network; it prints on A4. The customer's is in the language of this machine, or in another with --language;
    the record is in English. An existing file is never replaced.

    \b
    Examples (after `rustfern demo`):
      rustfern report --to for-ines.html --person ines
      rustfern report --to fuer-ines.html --person ines --language de
      rustfern report --for record --to record.html --ticket 4711 --technician "T. Okoro"
      rustfern report --to copies.csv
      rustfern report --csv > copies.csv
      rustfern report --over office --to office.html
    """
    if over is not None:
        return _over(over, target, as_csv=as_csv, as_json=as_json)
    from rustfern.operations.report import gather
    from rustfern.reports.report import CaseDetails, html, table

    file = case_at(case)
    roots = roots_of(file)
    try:
        if as_json:
            print_json(gather(file, person))
            return 0
        if as_csv:
            click.echo(table(file, person), nl=False)
            return 0
        if target is None:
            raise WrongUsage(
                "where the report is written was not given", None, "Add --to FILE.html (or .csv), or --csv, or --json"
            )
        ending = os.path.splitext(target)[1].lower()
        if ending not in (".html", ".csv"):
            raise WrongUsage("a report is a page or a table", target, "Name it .html or .csv")
        known = manage.paper(file)
        paper = CaseDetails(ticket or known["ticket"], technician or known["technician"], consent or known["consent"])
        text = (
            table(file, person)
            if ending == ".csv"
            else html(file, "record" if form == "record" else "customer", paper, this_run().clock, person, language)
        )
    finally:
        file.close()
    write_new(target, text.encode("utf-8", "backslashreplace"), "report", roots)
    click.echo(f"Written: {show_name(target)}")
    return 0


def _over(folder: str, target: str | None, *, as_csv: bool, as_json: bool) -> int:
    """One page, table or answer over a folder of answers about many roots."""
    from rustfern.operations.over import gather
    from rustfern.reports.over import page, table

    told = gather(folder)
    if as_json:
        print_json(told)
        return 0
    if as_csv:
        click.echo(table(told), nl=False)
        return 0
    ending = os.path.splitext(target or "")[1].lower()
    if target is None or ending not in (".html", ".csv"):
        raise WrongUsage(
            "where the page is written was not given", target, "Add --to FILE.html (or .csv), or --csv, or --json"
        )
    text = table(told) if ending == ".csv" else page(told, this_run().session)
    write_new(target, text.encode("utf-8", "backslashreplace"), "report", [machine.root for machine in told.machines])
    click.echo(f"Written: {show_name(target)}")
    return 0
