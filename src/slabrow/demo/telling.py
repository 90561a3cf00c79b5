"""Who hears what is being done."""

from collections.abc import Callable

Tell = Callable[[str], None]
