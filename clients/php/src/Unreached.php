<?php
declare(strict_types=1);

namespace Gerastic;

/** The node did not answer, not in time, or not as it should. */
final class Unreached extends \RuntimeException
{
}
