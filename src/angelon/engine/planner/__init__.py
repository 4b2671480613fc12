"""Planning: events become decisions and sends. `runs` takes what waits, a batch at a time, and keeps a fault to what it
harms; `batch` plans one store's events; `projection` takes an event into its order; `waiting` knows what waits for an
answer from elsewhere.
"""

from angelon.engine.planner.faults import describe_fault, link_to
from angelon.engine.planner.runs import Planner
from angelon.engine.planner.texts import compile_texts

__all__ = ["Planner", "compile_texts", "describe_fault", "link_to"]
