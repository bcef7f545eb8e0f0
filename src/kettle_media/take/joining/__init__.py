"""Parts of a track that several recorders have written, put together without a loss."""
