"""What is made of takes in the background, ordered."""

from django.db import transaction

from kettle_web.jobs.services import LONG, SOON, order
from kettle_web.models import Job, Take


@transaction.atomic
def order_program(*, take: Take, afresh: bool = False) -> None:
    """Have the program composed in the background; `afresh` what is being composed ends."""
    title, subject = f"{take.name}: program", f"take:{take.pk}"
    take.program_job = order(
        kind="program", queue=LONG, subject=subject, title=title, afresh=afresh
    )
    take.save(update_fields=["program_job"])


@transaction.atomic
def order_survey(*, take: Take) -> None:
    """Have its tracks looked at in the background."""
    title = f"{take.name}: waveforms and pictures"
    take.survey_job = order(kind="survey", queue=SOON, subject=f"take:{take.pk}", title=title)
    take.save(update_fields=["survey_job"])


def order_repair(*, take: Take) -> None:
    """Have what is damaged of its files mended, as far as they go."""
    subject, title = f"take:{take.pk}", f"{take.name}: repair"
    order(kind="repair", queue=SOON, subject=subject, title=title)


def make_again(*, take: Take) -> None:
    """Order what failed or was cancelled once more."""
    over = (Job.State.FAILED, Job.State.CANCELLED)
    if take.program_job is None or take.program_job.state in over:
        order_program(take=take)
    if take.survey_job is None or take.survey_job.state in over:
        order_survey(take=take)
