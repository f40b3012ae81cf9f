"""What people do at the desk: one module a noun, each public function one act in one transaction."""
