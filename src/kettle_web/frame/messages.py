"""Messages for the next page, in a cookie of our own name."""

from django.contrib.messages.storage.cookie import CookieStorage


class Messages(CookieStorage):
    """Django's, by another name: cookies of one host are shared by all its ports."""

    cookie_name = "vast_kettle_messages"
