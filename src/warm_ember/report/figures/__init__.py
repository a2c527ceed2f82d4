"""The figures of a report, as vectors with text that can be selected; no window is needed."""
