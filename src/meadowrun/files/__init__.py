"""One store for pictures and documents, used in any channel."""
