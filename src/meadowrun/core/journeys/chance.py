"""What chance says of people on a journey: always the same for the same person."""

from meadowrun.core.audience.persons import share_number
from meadowrun.core.journeys.steps import SplitStep


def path_by_chance(step: SplitStep, contact: int, salt: str) -> str:
    """The path of a random split that a person takes, always the same one for a salt."""
    number, upto = share_number(contact, f"{salt}:{step.id}"), 0
    for path in step.paths:
        upto += path.percent * 100
        if number < upto:
            return path.id
    return step.paths[-1].id


def in_control(contact: int, percent: int, salt: str) -> bool:
    """Whether somebody is in the control group of a journey, always the same for a salt."""
    return percent > 0 and share_number(contact, f"{salt}:control") < percent * 100
