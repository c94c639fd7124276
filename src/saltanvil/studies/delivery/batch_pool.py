"""Who does the work of a batch: processes of this machine, or an existing Dask cluster."""

import multiprocessing
import os
from collections.abc import Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool

from saltanvil.errors import UserError
from saltanvil.studies.delivery.batch import Item, Row, Treatment, process

#: How long a scheduler may take to answer.
CONNECT_S = 10


class NoCluster(UserError, ValueError):
    """The cluster cannot be used; the message says why and what to do."""


def on_processes(items: Sequence[Item], treatment: Treatment, jobs: int | None = None) -> Iterator[Row]:
    """Rows as they are done, by so many processes; one for each core if None. A process that dies takes what it was at."""
    count = min(jobs or os.cpu_count() or 1, max(len(items), 1))
    with ProcessPoolExecutor(count, mp_context=multiprocessing.get_context("spawn")) as pool:
        futures = {pool.submit(process, item, treatment): item for item in items}
        try:
            for future in as_completed(futures):
                item = futures[future]
                try:
                    yield future.result()
                except BrokenProcessPool:
                    why = "its process was killed; is there enough memory? Use fewer --jobs"
                    yield Row(item.input, item.output, "failed", why)
        finally:
            pool.shutdown(wait=True, cancel_futures=True)


def on_cluster(items: Sequence[Item], treatment: Treatment, address: str) -> Iterator[Row]:
    """Rows as they are done, by the workers of a Dask cluster, who must see the same folders. Raises NoCluster."""
    try:
        from distributed import Client
        from distributed import as_completed as completed
    except ImportError as error:
        raise NoCluster("--scheduler needs Dask; install it with `pip install 'saltanvil[cluster]'`") from error
    try:
        client = Client(address, timeout=CONNECT_S)  # type: ignore[no-untyped-call]
    except (OSError, ValueError, TimeoutError) as error:
        raise NoCluster(f"{address}: no scheduler answers there ({error}); start one with `dask scheduler`") from error
    with client:
        # Not `pure`: the answer depends on what lies in the folders.
        futures = {client.submit(process, item, treatment, pure=False, retries=1): item for item in items}
        for future in completed(list(futures)):  # type: ignore[no-untyped-call]
            item = futures[future]
            failure = future.exception()
            yield Row(item.input, item.output, "failed", f"the worker failed ({failure})") if failure else future.result()
