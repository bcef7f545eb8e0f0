"""Fields of a rig, with errors in our words."""

from django import forms

from kettle_web.frame.form_fields import name_field


class RigForm(forms.Form):
    """A new rig."""

    name = name_field(
        "A rig needs a name, so none was made. Type one, such as “Bench rig”.", "Name of the rig"
    )
