"""Benchmarks. Each compares Sondar with a named peer or bound in the same run and reports ratios; see docs/benchmarks.md."""
