"""Forms of the library: what is looked for, what is done with takes."""

import re
from typing import Any

from django import forms

from kettle_web.frame.asking import whole_number
from kettle_web.models import Folder, Take

MOST_TAG = 40
_SORTS = (
    ("", "newest first"),
    ("oldest", "oldest first"),
    ("name", "by name"),
    ("longest", "longest first"),
    ("largest", "largest first"),
)


class FindForm(forms.Form):
    """What is looked for among the takes."""

    q = forms.CharField(required=False, max_length=200, label="Words")
    sort = forms.ChoiceField(choices=_SORTS, required=False, label="Order")

    def __init__(
        self,
        data: Any,
        *,
        tags: list[str],
        folders: list[Folder],
        tutorials: list[tuple[int, str]],
    ) -> None:
        super().__init__(data)
        self.fields["tutorial"] = forms.ChoiceField(
            choices=[("", "any tutorial"), *tutorials], required=False, label="Tutorial"
        )
        self._folders = folders
        self.fields["tag"] = forms.ChoiceField(
            choices=[("", "any tag"), *((tag, tag) for tag in tags)], required=False, label="Tag"
        )
        self.fields["in"] = forms.ModelChoiceField(
            Folder.objects.all(), required=False, label="Folder", empty_label="any folder"
        )

    def choices(self) -> list[forms.BoundField]:
        """The lists to choose from; those with nothing to choose are left out."""
        tags = len(self.fields["tag"].choices) > 1  # type: ignore[attr-defined]
        names = ["tutorial", *(["in"] * bool(self._folders)), *(["tag"] * tags), "sort"]
        return [self[name] for name in names]


class RowsField(forms.ModelMultipleChoiceField):
    """Rows by their numbers, which a stranger may send longer than any is."""

    def clean(self, value: Any) -> Any:
        """The rows. Raises ValidationError where one is none."""
        numbers = [whole_number(str(one)) for one in value or ()]
        if None in numbers:
            raise forms.ValidationError(self.error_messages["invalid_choice"])
        return super().clean(numbers)


class TakesForm(forms.Form):
    """Which takes something is done with."""

    take = RowsField(
        Take.with_deleted.all(),
        error_messages={
            "required": "No take is chosen, so nothing was done. Tick some first.",
            "invalid_choice": "A take is gone meanwhile, so nothing was done. Reload the page.",
        },
    )


class NameForm(forms.Form):
    """The name of a take or a folder."""

    name = forms.CharField(
        max_length=80,
        error_messages={
            "required": "A name is needed. Type one.",
            "max_length": "A name has at most 80 characters. Shorten it.",
        },
    )


class TagForm(forms.Form):
    """A tag."""

    tag = forms.CharField(
        max_length=MOST_TAG,
        error_messages={
            "required": "A tag needs a word. Type one.",
            "max_length": f"A tag has at most {MOST_TAG} characters. Shorten it.",
        },
    )

    def clean_tag(self) -> str:
        """In one line, without the sign that parts tags."""
        tag = re.sub(r"[\s|]+", " ", str(self.cleaned_data["tag"])).strip()
        if not tag:
            raise forms.ValidationError("A tag needs a word. Type one.")
        return tag
