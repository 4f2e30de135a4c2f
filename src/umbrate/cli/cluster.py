"""A cluster of machines: the scheduler, and the workers that compute for it."""

import asyncio
import logging
import os
import socket
import sys
from pathlib import Path

import click

from ..core.errors import UmbrateError
from ..work.worker import ONE_THREAD
from .console import say

TLS = (("ca", "tls-ca-file"), ("cert", "tls-cert"), ("key", "tls-key"))


def tls_options(command):
    """The options of Dask for encrypted connections; see `use_tls`."""
    told = {
        "ca": "Certificate authority (PEM) that all machines of the cluster trust.",
        "cert": "Certificate (PEM) of this machine.",
        "key": "Key (PEM) of that certificate.",
    }
    for name, option in TLS:
        command = click.option(f"--{option}", f"tls_{name}", type=click.Path(exists=True), help=told[name])(command)
    return command


def use_tls(ca, cert, key):
    """Hand files for encrypted connections to Dask, for this process and those it starts."""
    import dask

    if any((ca, cert, key)):
        if not all((ca, cert, key)):
            raise UmbrateError("Encryption takes all three: --tls-ca-file, --tls-cert and --tls-key.")
        names = {"DASK_DISTRIBUTED__COMM__TLS__CA_FILE": ca, "DASK_DISTRIBUTED__COMM__REQUIRE_ENCRYPTION": "True"}
        for role in ("CLIENT", "WORKER", "SCHEDULER"):
            names[f"DASK_DISTRIBUTED__COMM__TLS__{role}__CERT"] = cert
            names[f"DASK_DISTRIBUTED__COMM__TLS__{role}__KEY"] = key
        os.environ.update({k: str(v) for k, v in names.items()})
        dask.config.refresh()


def _quietly(awaitable):
    """Run until it ends or Ctrl-C."""
    logging.getLogger("distributed").setLevel(logging.ERROR)
    try:
        asyncio.run(awaitable)
    except KeyboardInterrupt:
        say("Stopped.")


@click.command()
@click.option("--port", default=8786, show_default=True, help="Port that workers and runs find it at.")
@click.option("--host", default="", help="Address of the network to listen on; all where not given.")
@tls_options
def scheduler(port, host, tls_ca, tls_cert, tls_key):
    """Start the scheduler of a cluster: it hands work to workers and keeps nothing itself."""
    use_tls(tls_ca, tls_cert, tls_key)
    from distributed import Scheduler
    from distributed.security import Security

    async def serve():
        protocol = "tls" if tls_ca else "tcp"
        try:
            # its page of figures is for this machine alone, on any port
            s = Scheduler(
                host=host or None, port=port, protocol=protocol, security=Security(), dashboard=False,
                dashboard_address="127.0.0.1:0",
            )  # fmt: skip
            await s
        except (OSError, RuntimeError) as e:
            why = e.__cause__ or e
            raise UmbrateError(f"Port {port} cannot be used ({why}). Another scheduler may run: choose --port.") from e
        say(f"The scheduler listens at {s.address}. Start workers with: umbrate worker --cluster {s.address}")
        sys.stdout.flush()
        await s.finished()

    _quietly(serve())


@click.command()
@click.option("--cluster", required=True, envvar="UMBRATE_CLUSTER", help="Address of the scheduler: tcp://HOST:PORT.")
@click.option("--threads", type=click.IntRange(1), help="Items at once; as many as this machine has cores.")
@click.option("--name", help="Name of this machine, as runs say it.")
@click.option("--memory", type=float, help="Gigabytes that items may take; four fifths of what is free.")
@click.option("--cache", type=click.Path(path_type=Path), help="Folder for what is sent from other machines.")
@click.option("--cache-size", type=float, default=50.0, show_default=True, help="Gigabytes that the cache may take.")
@tls_options
def worker(cluster, threads, name, memory, cache, cache_size, tls_ca, tls_cert, tls_key):
    """Compute for a cluster on this machine, until Ctrl-C."""
    if any(os.environ.get(k) != v for k, v in ONE_THREAD.items()):
        # the linear-algebra library reads them when it is loaded, which has happened: sums keep their order so
        os.environ.update(ONE_THREAD)
        os.execv(sys.executable, [sys.executable, "-m", "umbrate", *sys.argv[1:]])
    use_tls(tls_ca, tls_cert, tls_key)
    from ..work import away

    name = name or f"{socket.gethostname()}-{os.getpid()}"

    def ready():
        say(f"{name} works for {cluster}. Ctrl-C stops it.")
        sys.stdout.flush()

    async def working():
        try:
            await away.work(
                cluster, name=name, threads=threads or os.cpu_count() or 1,
                memory=None if memory is None else memory * 1e9, cache=cache, cache_gb=cache_size, ready=ready,
            )  # fmt: skip
        except (OSError, TimeoutError, RuntimeError) as e:
            raise UmbrateError(
                f"No scheduler answers at {cluster} ({type(e).__name__}). Start it with “umbrate scheduler”, and look "
                "at the address."
            ) from e
        say("The scheduler is gone: this worker ends.")

    _quietly(working())
