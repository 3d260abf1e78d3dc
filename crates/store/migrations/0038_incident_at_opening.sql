-- What an incident looked like when it was noticed: whose doing, whom it had touched, what it had taken of error budgets.
ALTER TABLE incident ADD at_opening jsonb;
