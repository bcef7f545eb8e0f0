"""Results judged by programs that are not ours: ffmpeg, ffprobe, other readers, a browser."""
