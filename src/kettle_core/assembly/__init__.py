"""The assembly: takes cut and put in order."""
