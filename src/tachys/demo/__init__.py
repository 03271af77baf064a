"""The example project: a model of the row unit of a seed drill, and a stand-in for its board."""
