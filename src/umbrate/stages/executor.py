"""The seam between what is computed and where: work items go through one executor.

A work item is a call of a function of a module with picklable arguments, and its result is
picklable: nothing in a stage may depend on where its items run. Here they run in threads of this
process, which serves because kernels hold no lock while they compute. An executor that spreads them
over processes or machines (`umbrate.work.cluster`) has the same one method, says in `threads` how many
items run at once, and in `told` what people shall know of it.
"""

from concurrent.futures import ThreadPoolExecutor


def anywhere(function):
    """Mark the function of work items that other machines may do.

    What it reads and writes are blobs of the job, photos by what is in them, and arrays of the run's scratch folder.
    """
    function.anywhere = True
    return function


class LocalExecutor:
    """Runs work items in threads."""

    told = ""

    def __init__(self, threads=2):
        self.threads = threads

    def close(self):
        """Nothing is left of it."""

    def map(self, function, items, memory=0):
        """Yield ``function(item)`` for every item in their order, whatever order they end in.

        memory : bytes that an item takes, for executors that can choose where it runs

        Closing the generator early drops the items that have not started.
        """
        with ThreadPoolExecutor(self.threads) as pool:
            futures = [pool.submit(function, x) for x in items]
            try:
                for k, f in enumerate(futures):
                    yield f.result()
                    futures[k] = None  # the caller decides how long a result is kept
            finally:
                for f in futures:
                    if f is not None:
                        f.cancel()
