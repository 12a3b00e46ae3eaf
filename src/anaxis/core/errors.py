"""The one kind of error a person is meant to read."""

from __future__ import annotations


class BadInput(ValueError):
    """Input that cannot be used, said in one sentence: what is wrong, where, and what to do.

    Every layer raises it, and only the edges (pages, command line) catch it, so that the same
    sentence reaches the person wherever the input came in. ``code`` tells programs what went wrong and stays the same
    when the sentence is worded anew: no code reads the sentence.
    """

    code = "bad_input"

    def __init__(self, sentence: str, code: str = "") -> None:
        super().__init__(" ".join(sentence.split()))
        if code:
            self.code = code

    @property
    def sentence(self) -> str:
        return str(self.args[0])

    def as_dict(self) -> dict[str, str]:
        """Plain JSON, for another process."""
        return {"code": self.code, "sentence": self.sentence}

    @classmethod
    def from_dict(cls, told: dict[str, str]) -> BadInput:
        """The inverse of :meth:`as_dict`."""
        return BadInput(told["sentence"], told["code"])
