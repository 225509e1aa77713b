"""The live page: a folder of runs in a browser, as they happen."""
