"""What comes out, judged by Debian's ffmpeg: short forms of `bench truth`."""
