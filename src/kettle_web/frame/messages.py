"""Messages for the next page, in a cookie of our own name."""

from django.contrib.messages.storage.cookie import CookieStorage


class Messages(CookieStorage):
    """Django's, by another name: cookies of one host are shared by all its ports."""

    cookie_name = "vast_kettle_messages"
    # Browsers take 4 KB with name and attributes; Django's 2 KB drop the report of an import.
    max_cookie_size = 3800
