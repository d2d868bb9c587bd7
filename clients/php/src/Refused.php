<?php
declare(strict_types=1);

namespace Gerastic;

/** The node answered that a call cannot be carried out; the code is its HTTP status. */
final class Refused extends \RuntimeException
{
}
