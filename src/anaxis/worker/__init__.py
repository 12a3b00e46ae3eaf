"""Does the work in the queue: one attempt at a job, and the process that makes the attempts."""
