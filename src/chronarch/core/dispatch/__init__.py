"""Which machine makes what next, and why: a plan for the whole fleet.

`shop` has what is planned with, `run` the rules as compiled code, `planner` puts both together.
"""

from chronarch.core.dispatch.planner import make_plan
from chronarch.core.dispatch.shop import Assignment, Costs, NeedRow, Plan, Snapshot, Strategy, Work, Workplace

__all__ = ["Assignment", "Costs", "NeedRow", "Plan", "Snapshot", "Strategy", "Work", "Workplace", "make_plan"]
