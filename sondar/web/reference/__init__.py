"""What is known of any vehicle: the meaning of generic codes, and typical circuits."""
