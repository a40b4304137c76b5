"""The site network held against the plan."""
