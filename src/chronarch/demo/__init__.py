"""The demo shop, Marrow Lane Fabrication: its data, its past and its start-up. All of it is made up."""
