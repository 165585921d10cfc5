"""Memory of a long-running process."""

import gc


def settle() -> None:
    """Says that everything loaded so far stays: the collector no longer walks through it.

    Called once a process is ready. Measured on taking events in: a full collection in the middle of
    a batch cost as much as reading it.
    """
    gc.collect()
    gc.freeze()
