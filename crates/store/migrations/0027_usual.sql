-- What was usual when an evaluation asked for it: the median of the same time of earlier weeks, and one spread.
ALTER TABLE alert_evaluation ADD COLUMN middle double precision, ADD COLUMN spread double precision;
