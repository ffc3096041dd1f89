"""What `new` shows: what each choice costs, and what the answers open."""

from collections.abc import Iterator

from rich.console import RenderableType
from rich.text import Text

from ..core.interview.questions import Answers, Question, is_open
from ..core.values.ports import PortSet
from .screen import columns, command, typed
from .style import ACCENT, RISKS, STRONG, UNTRIED


def question_lines(question: Question, answers: Answers) -> Iterator[RenderableType]:
    """What stands under a question: a line of explanation, and for a choice what each means."""
    yield Text(f"  {question.explains}", style=UNTRIED)
    for key, meaning in question.choices(answers).items():
        table = columns(widths=(12, None))
        table.add_row(Text(f"  {key}", style=STRONG), Text(meaning))
        yield table


def more_lines(question: Question, can_go_back: bool) -> Iterator[RenderableType]:
    """What is told to who answers a question with one."""
    table = columns(widths=(2, None))
    table.add_row("", Text(question.more))
    back = "; < goes one step back" if can_go_back else ""
    table.add_row(
        "", Text(f"Enter takes what stands in brackets{back}; Ctrl-C ends it all, and writes nothing.", style=UNTRIED)
    )
    yield table


def remark_line(remark: str) -> RenderableType:
    """What is worth saying about an answer."""
    table = columns(widths=(3, None))
    table.add_row(Text("  ▲", style=RISKS), Text(remark))
    return table


def new_view(answers: Answers, file: str) -> Iterator[RenderableType]:
    """What is open to the internet now, and the next step."""
    yield ""
    yield Text(f"Written: {file}", style=STRONG)
    yield Text(f"  {_opened(answers)}")
    if answers.get("outside") == "unknown":
        yield Text("  ▲ The outside address is a placeholder: put in what the device itself shows.", style=RISKS)
    yield ""
    yield command(f"Next: {typed('sheets', file)}   what to enter on each device, in the order of the work", ACCENT)


def _opened(answers: Answers) -> str:
    if not is_open(answers):
        return "Nothing is open to the internet: a login in clear stays on the server's own network."
    control, data = answers.get("outside_port", answers["control_port"]), PortSet.parse(answers.get("ports", ""))
    if not data:
        return f"Open to the internet: port {control} alone."
    return f"Open to the internet: port {control}, and {data} for data: {1 + len(data)} ports."
