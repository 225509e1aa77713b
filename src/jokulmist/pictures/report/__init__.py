"""A report: one page on a run or several, whole in itself, that opens anywhere and needs no network."""
