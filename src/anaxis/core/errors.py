"""The one kind of error a person is meant to read."""


class BadInput(ValueError):
    """Input that cannot be used, said in one sentence: what is wrong, where, and what to do.

    Every layer raises it, and only the edges (pages, command line) catch it, so that the same
    sentence reaches the person wherever the input came in.
    """

    def __init__(self, sentence: str) -> None:
        super().__init__(" ".join(sentence.split()))

    @property
    def sentence(self) -> str:
        return str(self.args[0])
