"""All tests."""
