"""Reports of a job as pages and PDF, and the days on which its repair is to be asked after."""
