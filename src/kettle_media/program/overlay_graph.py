"""The bench's picture by a libavfilter graph, to measure the composer beside it."""

from collections.abc import Callable
from fractions import Fraction
from itertools import pairwise
from typing import Any

import av
import numpy as np
from av.filter import Graph
from numpy.typing import NDArray

from kettle_core.scene.layout import Box

TIME_BASE = Fraction(1, 30)
Buffer = NDArray[np.uint8]


def overlay_graph(
    displays: list[Buffer],
    webcams: list[Buffer],
    logo: Buffer,
    logo_alpha: int,
    turn: float,
    webcam_box: Box,
    logo_box: Box,
) -> Callable[[int], object]:
    """A graph that crops, scales by area, turns, masks by a disc and lays two overlays.

    Parameters
    ----------
    displays, webcams : I420 buffers of 1920 × 1080 and 1280 × 720 px, taken in turns
    logo : I420 buffer of 200 × 200 px
    logo_alpha : int, 0 to 255
    turn : float, degrees clockwise
    webcam_box, logo_box : Box, where they lie; the webcam's is 480 × 480 px

    Returns
    -------
    function of a frame's number that gives the frame; in one thread
    """
    graph = Graph()
    graph.threads = 1

    def source(width: int, height: int, name: str) -> Any:
        form = av.VideoFormat(name, width, height)
        return graph.add_buffer(width=width, height=height, format=form, time_base=TIME_BASE)

    display, webcam = source(1920, 1080, "yuv420p"), source(1280, 720, "yuv420p")
    mask, mark = source(480, 480, "gray"), source(200, 200, "yuva420p")
    chain = [
        graph.add("crop", "720:720:280:0"),
        graph.add("scale", "480:480:flags=area"),
        graph.add("rotate", f"{turn}*PI/180:ow=480:oh=480:c=none"),
    ]
    webcam.link_to(chain[0])
    for one, following in pairwise(chain):
        one.link_to(following)
    merged = graph.add("alphamerge")
    chain[-1].link_to(merged, 0, 0)
    mask.link_to(merged, 0, 1)
    over = graph.add("overlay", f"{webcam_box.left}:{webcam_box.top}:format=yuv420")
    display.link_to(over, 0, 0)
    merged.link_to(over, 0, 1)
    last = graph.add("overlay", f"{logo_box.left}:{logo_box.top}:format=yuv420")
    over.link_to(last, 0, 0)
    mark.link_to(last, 0, 1)
    sink = graph.add("buffersink")
    last.link_to(sink)
    graph.configure()
    y, x = np.mgrid[0:480, 0:480] - 239.5
    disc = np.where(np.hypot(x, y) < 240, 255, 0).astype(np.uint8)
    clear = np.full((200, 200), logo_alpha, np.uint8)
    with_alpha = np.concatenate([logo.ravel(), clear.ravel()])
    count = [0]

    def step(n: int, _held: Graph = graph) -> object:
        frames = (
            (display, av.VideoFrame.from_numpy_buffer(displays[n % 2], "yuv420p")),
            (webcam, av.VideoFrame.from_numpy_buffer(webcams[n % 3], "yuv420p")),
            (mask, av.VideoFrame.from_numpy_buffer(disc, "gray")),
            (mark, _yuva(with_alpha)),
        )
        for place, frame in frames:
            frame.pts, frame.time_base = count[0], TIME_BASE
            place.push(frame)
        count[0] += 1
        return sink.pull()

    return step


def _yuva(flat: Buffer) -> av.VideoFrame:
    frame = av.VideoFrame(200, 200, "yuva420p")
    at = 0
    for plane in frame.planes:
        size = plane.width * plane.height
        rows = np.frombuffer(memoryview(plane), np.uint8).reshape(plane.height, plane.line_size)
        rows[:, : plane.width] = flat[at : at + size].reshape(plane.height, plane.width)
        at += size
    return frame
