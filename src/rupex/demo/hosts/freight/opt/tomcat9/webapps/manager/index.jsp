<p>Manager</p>
