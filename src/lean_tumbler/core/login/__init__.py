"""One login: the check, the decision, the layered form, and what a refusal costs."""
