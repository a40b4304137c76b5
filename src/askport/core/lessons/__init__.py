"""What is learned from one unit that was set by hand."""
