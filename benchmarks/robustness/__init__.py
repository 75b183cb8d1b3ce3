"""What is thrown at files, writers, commands and public calls, to see that nothing is lost or silent."""
