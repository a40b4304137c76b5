"""The command line: data on standard output, talk on standard error, the contract's exit statuses."""
