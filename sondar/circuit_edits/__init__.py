"""What becomes known of a circuit while it is measured, written into its file: nothing that readings refer to is changed."""
