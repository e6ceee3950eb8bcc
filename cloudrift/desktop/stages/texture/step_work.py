"""What is worked out of a step of a line beside the interface."""

from cloudrift.desktop.session.work.tasks import Work
from cloudrift.loop.model.loop import LineAt, Loop
from cloudrift.render.engine.engine import Engine
from cloudrift.render.measure.step_facts import step_facts
from cloudrift.texture import Context, Treatment
from cloudrift.texture.portrait import portrait


def facts_work(engine: Engine, loop: Loop, line_of: LineAt, count: int) -> Work:
    """Return what measures the sound after that many treatments of a line."""
    return lambda _stop, _moved: step_facts(engine, loop, line_of, count)


def portrait_work(treatment: Treatment, context: Context) -> Work:
    """Return what draws a treatment's portrait at its place."""
    return lambda _stop, _moved: portrait(treatment, context)
