"""A week of practice: dose, rules, plan, ladders, progression."""
