"""What a take begins with."""

from django import forms


class RecordForm(forms.Form):
    """What a take begins with."""

    countdown_s = forms.IntegerField(
        min_value=0,
        max_value=10,
        initial=3,
        label="Countdown",
        error_messages={
            "required": "The countdown is empty, so nothing was recorded. Type 0 to 10 s.",
            "invalid": "The countdown is a whole number of seconds. Type 0 to 10 s.",
            "min_value": "The countdown can't be below 0 s. Type 0 to 10 s.",
            "max_value": "The countdown is at most 10 s. Type 0 to 10 s.",
        },
    )
