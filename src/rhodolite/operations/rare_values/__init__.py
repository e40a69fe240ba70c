"""Values that are rarely exceeded: from the largest of each year, or from peaks."""
