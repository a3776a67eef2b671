"""Fields for text that may hold anything: what a terminal would act on never reaches it."""

from __future__ import annotations

from rich.segment import Segment
from textual import events
from textual.strip import Strip
from textual.widgets import Input, TextArea
from textual.widgets.text_area import Edit, EditResult

from jondel.core.browse.field_text import FieldText


class TextField(Input):
    """One line. ``entered`` is the text; ``value`` is what stands for it in the field."""

    def __init__(
        self,
        text: str = "",
        *,
        placeholder: str = "",
        select_on_focus: bool = True,
        id: str | None = None,
        classes: str | None = None,
    ) -> None:
        self._field_text = FieldText()
        super().__init__(
            self._field_text.put_in(text),
            placeholder=placeholder,
            select_on_focus=select_on_focus,
            compact=True,
            id=id,
            classes=classes,
        )

    @property
    def entered(self) -> str:
        """The text, with every character that was put in or typed."""
        return self._field_text.take_out(self.value)

    @entered.setter
    def entered(self, text: str) -> None:
        self.value = self._field_text.put_in(text)

    def taken_out(self, value: str) -> str:
        """The text that a value of the field stands for, as one of its messages carries it."""
        return self._field_text.take_out(value)

    @property
    def selected_text(self) -> str:
        return self._field_text.take_out(super().selected_text)

    def replace(self, text: str, start: int, end: int) -> None:
        super().replace(self._field_text.put_in(text), start, end)

    def on_paste(self, event: events.Paste) -> None:
        """Take all of what is pasted, also where it has several lines."""
        event.prevent_default()
        event.stop()
        self.replace(_pasted(event).removesuffix("\n"), *self.selection)

    def render_line(self, y: int) -> Strip:
        return _drawn(super().render_line(y), self._field_text)


def entered_text(event: Input.Changed | Input.Submitted) -> str:
    """The text that a field held when it sent a message."""
    assert isinstance(event.input, TextField), "there are no other fields"
    return event.input.taken_out(event.value)


class TextBox(TextArea):
    """Any number of lines. ``entered`` is the text; ``text`` is what stands for it in the box."""

    def __init__(self, text: str = "", *, id: str | None = None, classes: str = "") -> None:
        self._field_text = FieldText(has_lines=True)
        self._break = "\n"
        super().__init__(self._put_in(text), id=id, classes=classes, compact=True)

    @property
    def entered(self) -> str:
        """The text, with every character that was put in or typed, and its own line breaks."""
        return self._held()

    @entered.setter
    def entered(self, text: str) -> None:
        self._hold(text)

    def _held(self) -> str:
        return self._field_text.take_out(self.text).replace("\n", self._break)

    def _hold(self, text: str) -> None:
        self.text = self._put_in(text)

    def _put_in(self, text: str) -> str:
        unbroken = text.replace("\r\n", "")
        only_these = "\r\n" in text and "\n" not in unbroken and "\r" not in unbroken
        self._break = "\r\n" if only_these else "\n"
        return self._field_text.put_in(text.replace("\r\n", "\n") if only_these else text)

    @property
    def selected_text(self) -> str:
        return self._field_text.take_out(super().selected_text)

    def edit(self, edit: Edit) -> EditResult:
        edit.text = self._field_text.put_in(edit.text)
        return super().edit(edit)

    def on_paste(self, event: events.Paste) -> None:
        event.prevent_default()
        event.stop()
        pasted = self.replace(_pasted(event), *self.selection, maintain_selection_offset=False)
        self.move_cursor(pasted.end_location)

    def action_cut(self) -> None:
        super().action_cut()
        self.app.copy_to_clipboard(self._field_text.take_out(self.app.clipboard))

    def render_line(self, y: int) -> Strip:
        return _drawn(super().render_line(y), self._field_text)


def _pasted(event: events.Paste) -> str:
    """Terminals send a carriage return for a line break."""
    return event.text.replace("\r\n", "\n").replace("\r", "\n")


def _drawn(strip: Strip, field_text: FieldText) -> Strip:
    segments = [
        Segment(field_text.drawn(segment.text), segment.style, segment.control) for segment in strip
    ]
    return Strip(segments, strip.cell_length)
