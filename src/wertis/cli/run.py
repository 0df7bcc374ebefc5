"""`wertis run`: a list of work, unattended."""

import argparse
from pathlib import Path

from wertis.cli.cluster import cluster_of
from wertis.cli.exits import EXIT_OK, EXIT_PARTLY
from wertis.core.errors import WertisError
from wertis.scripting.work import run_list, run_one


def run_run(a: argparse.Namespace) -> int:
    """Do a list of work; the exit code says whether all of it was done."""
    path = Path(a.list)
    if (a.workers is not None and a.workers < 1) or (a.memory is not None and a.memory < 1):
        raise WertisError("--workers and --memory want a number of 1 or more.")
    if a.only is not None:
        report = run_one(path, a.only)
        return EXIT_OK if report.state == "done" else EXIT_PARTLY
    with cluster_of(a.cluster, 0, a.folders) as cluster:
        reports = run_list(path, a.workers, a.again, cluster=cluster, memory=a.memory << 20 if a.memory is not None else None)
    failed = [r for r in reports if r.state == "failed"]
    need = [r for r in reports if r.state == "done" and r.needs]
    print(f"{len(reports) - len(failed)} of {len(reports)} shots done, {len(need)} of them to be looked at; {len(failed)} failed.")
    return EXIT_PARTLY if failed else EXIT_OK
