"""The estimate of a job: its lines, its sums, the file for an invoice program, and who accepted it."""
