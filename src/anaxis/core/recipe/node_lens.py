"""A change of the lens in the node tree: what was guessed of it is known from now on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from anaxis.core.camera.track import Lens
from anaxis.core.recipe.model import Work
from anaxis.core.typing import Floats


def with_node_lens(work: Work, change: Callable[[Lens], dict[str, Floats]]) -> Work:
    """The work with channels of its camera's lens changed."""
    node = work.scene.camera(work.path)
    assert node.lens is not None
    guesses = {k: v for k, v in work.scene.guesses.items() if k != f"lens:{work.path}"}
    scene = work.scene.replaced(replace(node, lens=replace(node.lens, **change(node.lens))))
    return replace(work, scene=replace(scene, guesses=guesses))
