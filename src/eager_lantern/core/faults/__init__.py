"""What goes wrong with a site in practice, each as a change of the site."""
