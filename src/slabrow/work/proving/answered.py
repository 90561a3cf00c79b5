"""Predictions that have asked the server what they cannot know: constants, and the order of values."""

from collections.abc import Iterable, Sequence

from slabrow.core.pruning.predict import Predictor
from slabrow.core.sql.answers import Answers
from slabrow.core.sql.constant_values import Surroundings
from slabrow.servers.asking import Fence
from slabrow.servers.protocols import Session

_ROUNDS = 3  # the value of a constant decides which order is asked about next


def new_answers(session: Session) -> Answers:
    """None given yet."""
    return Answers(version=session.version)


def ask_ahead(
    session: Session,
    fence: Fence,
    predictors: Sequence[Predictor],
    asked: Iterable[tuple[str, Surroundings]],
) -> None:
    """Predicts every statement on every table, puts the questions that arise to the server, and takes up the answers.

    All predictors share one set of answers. A few rounds for all statements together, and none where nothing is asked.
    """
    answers = predictors[0].answers if predictors else None
    if answers is None:
        return
    statements = list(asked)
    for _ in range(_ROUNDS):
        for predictor in predictors:
            for sql, around in statements:
                predictor.touched(sql, around)
        if not answers.open:
            break
        session.planner.answer(answers, fence)
        for predictor in predictors:
            predictor.refresh()
