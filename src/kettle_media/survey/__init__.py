"""What is seen of a take at a glance: waveforms, small pictures, plots; made once by a job."""
