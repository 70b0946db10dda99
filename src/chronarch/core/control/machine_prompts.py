"""What the machine itself wants of a person: it waits, or asks something with choices."""

from __future__ import annotations

from chronarch.core.control.controlled_machine import ControlledMachine
from chronarch.core.control.events import Noticed
from chronarch.core.control.line_protocol import LineProtocol
from chronarch.core.control.responses import Prompt
from chronarch.core.machines.states import MachineState, WrongState

MOST_CHOICES = 10


class MachinePrompts:
    def __init__(self, machine: ControlledMachine, link: LineProtocol) -> None:
        self._machine = machine
        self._link = link
        self.waits = ""
        """What the machine itself waits for a person for."""
        self.beyond = 0
        """Lines sent before it began to wait may still be taken; more than those only once it has gone on."""
        self.question = ""
        self.choices: tuple[str, ...] = ()
        """What the machine asks of a person, and the possible answers."""

    def wait(self, text: str) -> None:
        """The machine waits for a person."""
        machine = self._machine
        if self.waits == text:
            return
        if machine.state in (MachineState.WARMING, MachineState.BUILDING) and machine.spec is not None:
            machine.pause(text, by_itself=True)
        elif not self.waits:
            machine.tell(Noticed(text, machine.build))
        self.waits, machine.changed = text, True
        self.beyond = self._link.furthest

    def go_on(self, *, build_goes_on: bool) -> None:
        """The machine no longer waits for anybody."""
        machine = self._machine
        if not self.waits:
            return
        self.waits, machine.changed = "", True
        if build_goes_on and machine.state is MachineState.PAUSED:
            machine.resume()
            machine.lay()

    def told(self, prompt: Prompt) -> None:
        """The machine shows a question, piece by piece."""
        match prompt:
            case Prompt("begin", text):
                self.question, self.choices = text, ()
            case Prompt("choice", text):
                self.choices = (*self.choices, text)[:MOST_CHOICES]
            case Prompt("show"):
                self.wait(f"the machine asks: {self.question} ({' / '.join(self.choices) or 'no choice'})")
            case Prompt("end"):
                self.question, self.choices = "", ()

    def answer(self, choice: int) -> None:
        """Answer by the number of a choice, from 0. Raises WrongState."""
        if not 0 <= choice < len(self.choices):
            raise WrongState(f"The machine offers {len(self.choices)} choices; there is no choice {choice}.")
        self._link.urgent(b"M876 S%d" % choice)
        self.question, self.choices = "", ()
