"""Random cut lists of coded takes, judged frame by frame and click by click."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from random import Random

from kettle_bench.truth.coded import FPS
from kettle_bench.truth.judges import clicks_in, numbers_in, probed, sound_in
from kettle_core.assembly.cut_list import AddedFile, CutList, Piece, TitleCard
from kettle_core.rig.format import FRAME_RATES, Format
from kettle_core.rig.rig import Card
from kettle_core.timing.ticks import NS_PER_S
from kettle_media.assembly.added_file import take_in
from kettle_media.assembly.assemble import assemble
from kettle_media.assembly.media import TakeMedia
from kettle_media.assembly.timeline_file import write_timeline
from kettle_media.take.folder import TakeFolder

RATES = tuple(map(Fraction, FRAME_RATES))
SPEEDS = (10, 50, 80, 125, 150, 200, 400, 1600, 6400)
# Of stretched sounds these are judged: what runs faster has no click left that could be told.
HEARD_AT = range(50, 201)
CLICK_S, STRETCHED_S, JOIN_S = 0.001, 0.030, 0.012
# Of what fades or is joined nothing is expected, and nothing is wrong.
NEAR_S = 0.06


@dataclass(frozen=True)
class Row:
    """Where a piece lies, by the words of the rule: frames of the program, and exact take time."""

    piece: Piece
    first: int
    end: int
    from_ns: Fraction
    until_ns: Fraction


def slowly_laid(pieces: Sequence[Piece], fps: Fraction) -> list[Row]:
    """Pieces that are shown, a stretch at a time; it shares nothing with `laid`."""
    frame, found, at, rest = NS_PER_S / fps, list[Row](), 0, list(pieces)
    ended: tuple[str, int, Fraction] | None = None
    while rest:
        run = [rest.pop(0)]
        while rest and (rest[0].take, rest[0].from_ns, rest[0].percent) == (
            run[-1].take, run[-1].until_ns, run[0].percent,
        ):  # fmt: skip
            run.append(rest.pop(0))
        goes_on = ended and ended[:2] == (run[0].take, run[0].from_ns)
        begins = ended[2] if ended and goes_on else Fraction(run[0].from_ns)
        asked, end = Fraction(run[0].percent, 100), Fraction(run[-1].until_ns)
        speed = asked
        if asked != 1:
            frames = max(0, int((2 * (end - begins) / asked / frame + 1) // 2))
            speed = (end - begins) / (frames * frame) if frames else asked
        first = at
        for piece in run:
            last = at + max(0, int((2 * (piece.until_ns - begins) / speed / frame + 1) // 2))
            seen = (begins + (x - at) * frame * speed for x in (first, last))
            found.append(Row(piece, first, last, *seen))
            first = last
        reached = begins + (first - at) * frame * speed
        ended = (run[-1].take, run[-1].until_ns, reached if asked == 1 else max(reached, end))
        at = first
    return found


def random_cuts(rng: Random, take: str, length_ns: int, file: AddedFile) -> CutList:
    """A cut list of a coded take: speeds, cards, a file, fades; many pieces go on."""
    pieces, at = list[Piece](), rng.randrange(length_ns // 2)
    for number in range(rng.randrange(2, 9)):
        kind, name = rng.random(), f"p{number}"
        if kind < 0.1:
            pieces.append(Piece(name, "card1", 0, rng.randrange(10**7, 2 * NS_PER_S)))
            continue
        of = file.id if kind < 0.25 else take
        most = file.length_ns if of == file.id else length_ns
        if at > most - NS_PER_S or rng.random() < 0.4:
            at = rng.randrange(most - NS_PER_S)
        until = min(
            most, at + rng.choice((rng.randrange(10**6, 10**8), rng.randrange(10**8, 4 * 10**9)))
        )
        percent = rng.choice(SPEEDS) if rng.random() < 0.5 else 100
        stretched = percent != 100 and rng.random() < 0.5
        fades = (rng.choice((0, 0, 0, 200)), rng.choice((0, 0, 0, 300)))
        pieces.append(
            Piece(name, of, at, until, rng.random() < 0.15, percent,
                  "stretched" if stretched else "off", *fades)
        )  # fmt: skip
        at = until
    cards = (TitleCard("card1", Card("Fold")),)
    fades = (rng.choice((0, 0, 400)), rng.choice((0, 0, 400)))
    return CutList(tuple(pieces), cards, (file,), *fades)


class CutJudge:
    """A coded take, and a file of it, of which lists are composed and judged."""

    def __init__(self, folder: TakeFolder, room: Path) -> None:
        self._folder, self._room = folder, room
        info = folder.read_info()
        self.take, self.format = info.id, info.rig_values.format
        self.length_ns = int(info.duration_ns or 0)
        whole = self._composed(CutList((Piece("w", self.take, 0, self.length_ns),)), self.format)
        # What the take begins with, in the driver's own time.
        self._origin_s = numbers_in(whole)[0] / float(FPS)
        with whole.open("rb") as file:
            made = take_in(file, "whole.mp4", room / "files")
        self.file = replace(made, id="file1")

    def random(self, seed: int) -> tuple[CutList, Format]:
        """A list and the format it is composed in."""
        rng = Random(seed)  # noqa: S311  each list by its number
        cuts = random_cuts(rng, self.take, self.length_ns, self.file)
        return cuts, replace(self.format, fps=RATES[seed % len(RATES)])

    def faults(self, cuts: CutList, format_: Format, shown: CutList | None = None) -> list[str]:
        """What is wrong of a list's program and time lines, in words.

        With another list that is `shown` it is tried whether the judge finds that.
        """
        rows = [row for row in slowly_laid(cuts.shown, format_.fps) if row.end > row.first]
        if not rows:
            return []
        path = self._composed(shown or cuts, format_)
        return [
            *self._seen(rows, path, format_.fps),
            *self._heard(rows, cuts, path, format_.fps),
            *self._time_lines(rows, cuts, format_.fps),
        ]

    def _composed(self, cuts: CutList, format_: Format) -> Path:
        path = self._room / "program.mp4"
        takes = {self.take: self._folder}
        assemble(takes, cuts, format_, path, files=self._room / "files")
        return path

    def _seen(self, rows: Sequence[Row], path: Path, fps: Fraction) -> list[str]:
        numbers, told, wrong = numbers_in(path), probed(path), list[str]()
        frames = rows[-1].end
        if not len(numbers) == told.frames == frames:
            return [f"{len(numbers)} frames, {told.frames} told, {frames} wanted"]
        if abs(told.picture_s - frames / fps) > 0.0005:
            wrong.append(f"{told.picture_s} s instead of {float(frames / fps)}")
        half_s = float(Fraction(1, 2) / min(fps, FPS)) + 1e-3
        for row in rows:
            if row.piece.take == "card1":
                continue
            for frame in range(row.first, row.end):
                at_s = self._at_s(row, frame)
                fades = min(frame - row.first, row.end - 1 - frame) < 0.31 * fps
                shown = numbers[frame] / float(FPS)
                off_s = max(shown - at_s, at_s - shown - float(1 / FPS), 0.0)
                if off_s > half_s and not (fades or self._fading(frame, frames, fps)):
                    wrong.append(f"frame {frame} shows {shown:.3f} instead of {at_s:.3f} s")
        return wrong[:3]

    def _at_s(self, row: Row, frame: int) -> float:
        """What of the driver's time is to be seen at the beginning of a frame."""
        share = Fraction(frame - row.first, row.end - row.first)
        return self._origin_s + float(row.from_ns + share * (row.until_ns - row.from_ns)) / 1e9

    @staticmethod
    def _fading(frame: int, frames: int, fps: Fraction) -> bool:
        return min(frame, frames - 1 - frame) < 0.41 * fps

    def _heard(self, rows: Sequence[Row], cuts: CutList, path: Path, fps: Fraction) -> list[str]:
        found, wrong, may = clicks_in(sound_in(path)), list[str](), list[float]()
        unjudged = set[float]()
        end_s = float(rows[-1].end / fps)
        for row in rows:
            piece = row.piece
            is_heard = piece.percent == 100 or piece.sound == "stretched"
            if piece.take == "card1" or not is_heard:
                continue
            start_s, stop_s = float(row.first / fps), float(row.end / fps)
            speed = float((row.until_ns - row.from_ns) / 10**9) / (stop_s - start_s)
            judged = piece.percent == 100 or piece.percent in HEARD_AT
            if not judged:
                unjudged |= {one for one in found if start_s <= one <= stop_s}
            near_s, least_s = (CLICK_S, JOIN_S) if piece.percent == 100 else (STRETCHED_S, NEAR_S)
            for second in range(int(self.length_ns / 1e9) + 2):
                at_s = start_s + (second - self._origin_s - float(row.from_ns) / 1e9) / speed
                if start_s - NEAR_S < at_s < stop_s + NEAR_S:
                    may.append(at_s)
                left, right = piece.fade_in_ms / 1000, piece.fade_out_ms / 1000
                whole = start_s + least_s + left < at_s < stop_s - least_s - right
                whole &= cuts.fade_in_ms / 1000 < at_s < end_s - cuts.fade_out_ms / 1000 - 0.05
                if whole and judged and all(abs(one - at_s) > near_s for one in found):
                    wrong.append(f"no click at {at_s:.4f} s of the program ({piece.percent} %)")
        for one in found:
            if one not in unjudged and all(abs(one - at_s) > NEAR_S for at_s in may):
                wrong.append(f"a click at {one:.4f} s that is none")
        return wrong[:3]

    def _time_lines(self, rows: Sequence[Row], cuts: CutList, fps: Fraction) -> list[str]:
        import opentimelineio as otio

        media: Mapping[str, TakeMedia] = {self.take: TakeMedia("Coded", "a.mp4", self.length_ns)}
        wrong = []
        for suffix in (".otio", ".edl"):
            path = self._room / f"line{suffix}"
            write_timeline(path, cuts, fps, media, "Coded")
            rate = fps * (2 if round(fps) < 24 else 1)
            more = {"rate": float(rate)} if suffix == ".edl" else {}
            there = otio.adapters.read_from_file(str(path), **more)
            clips = list(there.video_tracks()[0])
            lengths = [clip.duration().to_seconds() for clip in clips]
            wanted = [float((row.end - row.first) / fps) for row in rows]
            off_s = [abs(a - b) for a, b in zip(lengths, wanted, strict=False)]
            if len(lengths) != len(wanted) or max(off_s) > 1e-5:
                wrong.append(f"{suffix}: clips of {lengths} instead of {wanted} s")
            for row, clip in zip(rows, clips, strict=False):
                off_s = clip.source_range.start_time.to_seconds() - float(row.from_ns) / 1e9
                if abs(off_s) > float(Fraction(1, 2) / fps) + 1e-4:
                    wrong.append(f"{suffix}: a clip begins {off_s:.4f} s late")
        return wrong[:3]
