"""HTML that somebody else wrote: how deep it nests, what no mail may hold."""
