"""A take's account as its end and its repair tell it."""

from kettle_media.account.checking import check_account
from kettle_media.durable import LineFile
from kettle_media.take.folder import TakeFolder

# So many sentences stay with the take; all of them are in its journal.
MOST_TOLD = 12


def account_of(folder: TakeFolder, duration_ns: int) -> list[str]:
    """What does not add up of a take whose tracks have ended, in sentences; it is noted too."""
    try:
        account = check_account(folder.path, duration_ns)
    except (OSError, ValueError, KeyError, TypeError, IndexError) as error:
        return [f"What came for this take cannot be compared with what is there: {error!r}."]
    found = [vars(finding) for finding in account.findings]
    if found or account.unknown:
        line = {"at_ns": duration_ns, "what": "account", "found": found}
        journal = LineFile(folder.journal_path, at_once=True)
        journal.write({**line, "not_known_ns": account.unknown})
    told = [finding.words for finding in account.findings]
    more = len(told) - MOST_TOLD
    return [*told[:MOST_TOLD], *([f"{more} more of that are in the journal."] if more > 0 else [])]
